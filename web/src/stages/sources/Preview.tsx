// The evidence rail: an entry without extracting it, what it needs and what
// needs it, whose it is.
import { Button, styled } from '@mui/material'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { useNavigate } from 'react-router'
import { content, contentUrl, entryKeys, pictureUrl, usePreview } from '../../api/entries'
import { useAct, type S } from '../../api/http'
import { useLayouts } from '../../api/layouts'
import { bind, unbind } from '../../api/links'
import { mountEntry } from '../../api/sources'
import { makeFind } from '../../api/finds'
import { viewUrl } from '../../api/scenes'
import { Bind } from '../../parts/Bind'
import { Fault, Figures } from '../../parts/bits'
import { bytes, count, plural, split } from '../../parts/format'
import { PictureView } from '../../parts/PictureView'
import { View3D } from '../../parts/View3D'
import { asks } from './Terms'
import type { Put } from '../../parts/address'
import { Body } from '../../parts/Body'
import { Code } from '../../parts/Code'
import { Empty } from '../../parts/Empty'
import { FactGrid } from '../../parts/Facts'
import { Head } from '../../parts/Head'
import { Item } from '../../parts/Item'
import { Mini } from '../../parts/Mini'
import { Pane } from '../../parts/Pane'
import { Row } from '../../parts/Row'
import { Tag } from '../../parts/Tag'
import { Text } from '../../parts/Text'
import { TextButton } from '../../parts/TextButton'
import { Fold } from '../../parts/Fold'

const Sound = styled('audio')({ width: '100%' })

export function Preview({ project, entry, put }: { project: number; entry: number; put: Put }) {
  const { data: p, error, isLoading } = usePreview(project, entry || undefined)
  const go = useNavigate()
  const { act, fault } = useAct(project)
  const layouts = useLayouts(project)
  if (!entry)
    return (
      <Pane>
        <Empty>
          <b>Preview</b>Choose an entry to see it here. Nothing is extracted.
        </Empty>
      </Pane>
    )
  const own = (format?: string) => layouts.data?.find((l) => !l.shipped && (l.format ?? l.name) === format)

  const find = () =>
    act(
      () => makeFind(project, entry),
      (f) => void go(`/p/${project}/finds/${f.id}`),
    )
  const show = (id: number) => put({ entry: String(id) })
  const m = p?.model
  const name = p ? split(p.entry.path)[1] : ''
  const missing = p?.needs?.filter((l) => !l.entry).length ?? 0
  return (
    <Pane data-preview={p?.entry.path}>
      {m ? (
        <View3D
          className="small"
          tools={false}
          panes={[
            {
              url: viewUrl(m.scene),
              nodes: m.stats.nodes,
              title: name,
              note: `${plural(m.stats.triangles, 'triangle')} · ${plural(m.stats.bones, 'bone')}`,
            },
          ]}
        />
      ) : p?.picture ? (
        <PictureView
          url={(show) => pictureUrl(entry, show)}
          name={name}
          width={p.picture.width}
          height={p.picture.height}
        />
      ) : (
        <Head>
          <h2>{p ? name : isLoading ? 'Opening…' : 'Preview'}</h2>
        </Head>
      )}
      <Fault error={error ?? fault} />
      {p?.error && <Fault error={p.error} />}
      {p?.kind === 'sound' && !p.error && (
        <Body>
          {/* A sound of a game: nobody has captions of it. */}
          <Sound controls src={contentUrl(entry)} />
        </Body>
      )}
      {p?.text !== undefined && (
        <>
          <Head plain>
            <h2>Text</h2>
            <Text tone="soft" small>
              {p.encoding}
              {p.cut && ', the first 64 KB'}
            </Text>
          </Head>
          <Code short>{p.text}</Code>
        </>
      )}
      {(m || p?.mountable) && (
        <Body acts className="row wrap">
          {m && (
            <Button variant="contained" onClick={() => find()}>
              {p?.find ? 'Show the find' : 'Make it a find'}
            </Button>
          )}
          {p?.mountable && (
            <Button variant="contained" onClick={() => act(() => mountEntry(entry))}>
              Mount it here
            </Button>
          )}
        </Body>
      )}
      {p?.needs && p.needs.length > 0 && (
        <Fold
          id="entry.needs"
          title="Needs"
          sum={missing > 0 ? <Tag tone="warn">{missing} missing</Tag> : <Tag tone="good">all found</Tag>}
        >
          {p.needs.map((l) => (
            <Link
              key={l.ref + l.role}
              l={l}
              project={project}
              show={show}
              pin={(id) => act(() => bind(project, l.ref, id))}
              unpin={() => act(() => unbind(project, l.ref))}
            />
          ))}
        </Fold>
      )}
      {(p?.neededByCount ?? 0) > 0 && (
        <Fold
          id="entry.needed"
          title="Needed by"
          sum={
            <Text tone="soft" small>
              {plural(p!.neededByCount!, 'entry', 'entries')}
            </Text>
          }
        >
          {p!.neededBy!.slice(0, 8).map((e) => (
            <Item key={e.id}>
              <TextButton onClick={() => show(e.id)}>{e.path}</TextButton>
              <small>{e.sourceLabel}</small>
            </Item>
          ))}
        </Fold>
      )}
      {p?.set && (
        <Head plain>
          <h2>Set</h2>
          <TextButton onClick={() => put({ set: p.set!, view: '', q: '', kind: '' })}>
            {p.set}, {plural(p.setSize ?? 0, 'entry', 'entries')}
          </TextButton>
        </Head>
      )}
      {p?.name && (
        <FactGrid>
          {Object.entries(p.name).map(([k, v]) => [
            <span key={k}>
              {{ role: 'Picture role', kind: 'Kind of thing', lod: 'Level of detail', state: 'State' }[k]}
            </span>,
            <div key={k + 'v'}>{v}</div>,
          ])}
        </FactGrid>
      )}
      {p?.terms && <Terms t={p.terms} short={p.short ?? ''} />}
      {m && (
        <Fold
          id="entry.figures"
          title="Figures"
          sum={<Text tone="soft">{plural(m.stats.triangles, 'triangle')}</Text>}
        >
          <Figures stats={m.stats} basis={m.basis} />
        </Fold>
      )}
      {p?.picture && (
        <FactGrid>
          <span>Size</span>
          <div>
            {p.picture.width} × {p.picture.height} texels
          </div>
          <span>Format</span>
          <div>{p.picture.format}</div>
        </FactGrid>
      )}
      {p && (
        <FactGrid>
          <span>Entry</span>
          <Text as="div" wrap>
            {p.entry.path}
          </Text>
          <span>Source</span>
          <div>{p.entry.sourceLabel}</div>
          <span>Bytes</span>
          <div>
            {count(p.entry.size)}
            {p.entry.packed >= 0 && `, ${count(p.entry.packed)} packed`}
          </div>
          {p.entry.overriddenBy && (
            <>
              <span>Overridden</span>
              <Text as="div" tone="warn">
                by {p.entry.overriddenBy}
              </Text>
            </>
          )}
          {p.entry.others && (
            <>
              <span>Also in</span>
              <div>{p.entry.others.join(', ')}</div>
            </>
          )}
        </FactGrid>
      )}
      {p && (
        <Body className="row between">
          <TextButton data-bytes={entry} onClick={() => void go(`/p/${project}/sources/bytes/${entry}`)}>
            Look at its bytes
          </TextButton>
          <TextButton component="a" href={`${contentUrl(entry)}?save=true`}>
            Save this file
          </TextButton>
        </Body>
      )}
      {p && (p.kind === 'data' || p.kind === 'archive' || p.kind === '' || p.error) && (
        <Bytes key={entry} entry={entry} size={p.entry.size} />
      )}
      {p && own(p.entry.format) && (
        <Body>
          <TextButton
            data-layout-of={entry}
            onClick={() => void go(`/p/${project}/sources/layout/${own(p.entry.format)!.id}?entry=${entry}`)}
          >
            Open its layout, {p.entry.format}
          </TextButton>
        </Body>
      )}
    </Pane>
  )
}

function Link({
  l,
  project,
  show,
  pin,
  unpin,
}: {
  l: S['Link']
  project: number
  show: (id: number) => void
  pin: (id: number) => void
  unpin: () => void
}) {
  const name = split(l.ref)[1]
  return (
    <Item data-need={l.ref}>
      {l.entry ? (
        <>
          <span title={l.ref}>{name}</span>{' '}
          <Tag tone={l.sure === 'possible' ? 'warn' : 'good'} title={`${l.sure}: ${l.how}`}>
            {l.how}
          </Tag>
          {l.role !== 'file' && (
            <Text tone="soft" small>
              {' '}
              {l.role}
            </Text>
          )}
          <small>
            <TextButton onClick={() => show(l.entry!.id)}>
              {l.entry.sourceLabel} {l.entry.path}
            </TextButton>
          </small>
          {l.how === 'pinned by hand' && (
            <small>
              <TextButton onClick={unpin}>Let it be looked for again</TextButton>
            </small>
          )}
        </>
      ) : (
        <>
          <Text tone="warn" title={l.ref}>
            {name}
          </Text>{' '}
          not found<small>looked for {l.looked.join(', ')}</small>
          {l.nearest.map((e) => (
            <small key={e.id}>
              Nearest: {e.path} <TextButton onClick={() => pin(e.id)}>Use it</TextButton>
            </small>
          ))}
          {l.role === 'file' ? (
            <Bind project={project} name={l.ref} />
          ) : (
            l.nearest.length === 0 && (
              <Text as="small" tone="good">
                Add the source that holds it; it is then found by itself.
              </Text>
            )
          )}
        </>
      )}
    </Item>
  )
}

function Terms({ t, short }: { t: S['Terms']; short: string }) {
  return (
    <Fold
      id="entry.terms"
      title="Terms"
      sum={<Tag tone={short === 'private use only' ? 'warn' : 'plain'}>{short}</Tag>}
    >
      {(t.owner || t.licence) && (
        <FactGrid>
          {t.owner && (
            <>
              <span>Owner</span>
              <div>{t.owner}</div>
            </>
          )}
          {t.licence && (
            <>
              <span>Licence</span>
              <Text as="div" wrap>
                {t.licence}
              </Text>
            </>
          )}
          {asks
            .filter(([k]) => t[k])
            .map(([k, label]) => [
              <span key={k}>{label}</span>,
              <div key={k + 'v'} className={t[k] === 'no' ? 'warn' : ''}>
                {t[k] === 'yes' ? 'may be done' : 'may not'}
              </div>,
            ])}
          {t.evidence && (
            <>
              <span>From</span>
              <Text as="div" wrap>
                {t.byHand ? 'stated by hand: ' : ''}
                {t.evidence}
              </Text>
            </>
          )}
        </FactGrid>
      )}
    </Fold>
  )
}

const SPAN = 1024

/** The bytes, a page at a time. */
function Bytes({ entry, size }: { entry: number; size: number }) {
  const [from, setFrom] = useState(0)
  const { data, error } = useQuery({
    queryKey: entryKeys.bytes(entry, from, SPAN),
    enabled: size > 0,
    staleTime: 20_000,
    queryFn: ({ signal }) => content(entry, from, from + SPAN, signal),
  })
  const lines: string[] = []
  for (let i = 0; data && i < data.length; i += 8) {
    const row = Array.from(data.slice(i, i + 8))
    lines.push(
      `${(from + i).toString(16).padStart(8, '0')}  ${row
        .map((b) => b.toString(16).padStart(2, '0'))
        .join(' ')
        .padEnd(24)} ${row.map((b) => (b >= 32 && b < 127 ? String.fromCharCode(b) : '·')).join('')}`,
    )
  }
  return (
    <>
      <Head plain ruled>
        <h2>Bytes</h2>
        <Row as="span">
          <Mini disabled={from === 0} onClick={() => setFrom(Math.max(0, from - SPAN))}>
            Earlier
          </Mini>
          <Mini disabled={from + SPAN >= size} onClick={() => setFrom(from + SPAN)}>
            Later
          </Mini>
        </Row>
      </Head>
      <Body className="soft small">
        {size === 0
          ? 'It has no bytes.'
          : `${count(from)} to ${count(Math.min(size, from + SPAN) - 1)} of ${bytes(size)}`}
      </Body>
      <Fault error={error} />
      {lines.length > 0 && (
        <Code hex data-hex>
          {lines.join('\n')}
        </Code>
      )}
    </>
  )
}
