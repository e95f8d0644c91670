// A layout while it is written: the document, what it reads in an entry field
// by field, the bytes, and what comes out.
import { Button, MenuItem, Select, ToggleButton, ToggleButtonGroup } from '@mui/material'
import { useQueryClient } from '@tanstack/react-query'
import { useEffect, useRef, useState, type ReactNode } from 'react'
import { Link, useLocation, useNavigate, useParams, useSearchParams } from 'react-router'
import { refresh, useAct, type S } from '../api/http'
import {
  dropDraft,
  forgetLayout,
  keepDraft,
  keepLayout,
  layoutDocument,
  layoutKeys,
  layoutVersion,
  runCoverage,
  useCheck,
  useCoverage,
  useExplained,
  useLayout,
  useLayoutSchema,
  useMade,
} from '../api/layouts'
import { viewUrl } from '../api/scenes'
import { Fault } from '../parts/bits'
import { bytes, count, plural, when } from '../parts/format'

import { View3D } from '../parts/View3D'
import { YamlEditor, type EditorHandle } from '../parts/YamlEditor'
import { useProjectId } from '../parts/project'
import { ROW, View } from './Bytes'
import { Body } from '../parts/Body'
import { Empty } from '../parts/Empty'
import { FactGrid } from '../parts/Facts'
import { Head } from '../parts/Head'
import { Item } from '../parts/Item'
import { Notice } from '../parts/Notice'
import { Pane } from '../parts/Pane'
import { Row } from '../parts/Row'
import { Scroll } from '../parts/Scroll'
import { Text } from '../parts/Text'
import { TextButton } from '../parts/TextButton'
import { Tools } from '../parts/Tools'
import { Tag } from '../parts/Tag'
import { Bench } from '../parts/Bench'
import { Panes } from '../parts/Panes'
import { useLatest } from '../parts/hooks'

type Piece = S['Piece']
/** Asks for a value again a little after the last change. */
function useLater<T>(value: T, ms: number) {
  const [late, setLate] = useState(value)
  useEffect(() => {
    const t = setTimeout(() => setLate(value), ms)
    return () => clearTimeout(t)
  }, [value, ms])
  return late
}

export function LayoutPage() {
  const id = Number(useParams().layout)
  const { data, error } = useLayout(id)
  if (!data)
    return (
      <Bench>
        <Fault error={error} />
        {!error && <Empty>Opening the layout…</Empty>}
      </Bench>
    )
  return <Editor key={id} first={data} />
}

function Editor({ first }: { first: S['Layout'] }) {
  const project = useProjectId()
  const go = useNavigate()
  const q = useQueryClient()
  const [params] = useSearchParams()
  const entry = Number(params.get('entry') ?? 0)
  const [kept, setKept] = useState(first)
  const [doc, setDoc] = useState(first.draft ?? first.document)
  const [depth, setDepth] = useState([0, 0])
  const [fault, setFault] = useState<unknown>()
  const [sel, setSel] = useState({ at: 0, n: 1 })
  const [focus, setFocus] = useState(-1)
  const [tab, setTab] = useState('result')
  const edit = useRef<EditorHandle>(null)
  const piece = (useLocation().state as { piece?: string } | null)?.piece
  useEffect(() => {
    if (piece) {
      edit.current?.insert(piece + '\n')
      window.history.replaceState({}, '')
    }
  }, [piece])
  const late = useLater(doc, 200)
  const schema = useLayoutSchema()
  const check = useCheck(late)
  const works = check.data?.works ?? false
  const read = useExplained(entry, late, focus, works)
  const x = read.data
  const problem =
    check.data && !works
      ? { line: check.data.line, column: check.data.column, message: check.data.message ?? '' }
      : x?.message
        ? {
            line: x.line,
            column: x.column,
            message: `${x.message}${x.at !== undefined ? ` (offset ${count(x.at)})` : ''}`,
          }
        : undefined
  const changed = doc !== kept.document || kept.version !== kept.head
  const size = x?.size ?? 0
  const [top, setTop] = useState(0)
  const now = useRef([0, 1])
  const select = (at: number, n: number, from?: 'bytes') => {
    const to = Math.max(0, Math.min(at, Math.max(0, size - 1)))
    now.current = [to, Math.max(1, n)]
    setSel({ at: to, n: Math.max(1, n) })
    const row = Math.floor(to / ROW)
    if (row < top || row >= top + 12) setTop(Math.max(0, row - 3))
    if (from === 'bytes') setFocus(to)
  }
  // What is typed is saved a moment later, and at once when the page is left.
  const saved = useRef(doc)
  // The version that what is typed is made of: a draft may be of an older one.
  const base = useRef(first.draft === undefined ? first.head : (first.draftBase ?? first.head))
  const save = useLatest((leaving = false) => {
    if (doc === saved.current) return
    const draft = doc
    saved.current = draft
    const sent =
      draft === kept.document ? dropDraft(kept.id, leaving) : keepDraft(kept.id, draft, base.current, leaving)
    sent.catch((e: unknown) => {
      saved.current = ''
      setFault(e)
    })
  })
  useEffect(() => {
    const t = setTimeout(() => save.current(), 400)
    return () => clearTimeout(t) // eslint-disable-next-line react-hooks/exhaustive-deps -- typing sets the clock
  }, [doc])
  useEffect(() => {
    const leave = () => save.current(true)
    window.addEventListener('pagehide', leave)
    return () => {
      window.removeEventListener('pagehide', leave)
      leave()
      forgetLayout(q, first.id)
    }
  }, [save, q, first.id])
  const keep = async () => {
    setFault(undefined)
    saved.current = doc
    try {
      const l = await keepLayout(kept.id, doc, base.current)
      base.current = l.head
      setKept(l)
      q.setQueryData(layoutKeys.one(l.id), l)
      void refresh(q, project)
    } catch (e) {
      setFault(e)
    }
  }
  const version = async (no: number) => {
    setFault(undefined)
    try {
      const l = await layoutVersion(kept.id, no)
      edit.current?.replace(l.document)
      base.current = l.head
      setKept(l)
    } catch (e) {
      setFault(e)
    }
  }
  const bring = (f?: File) => {
    if (f) void f.text().then((t) => edit.current?.replace(t))
  }
  const gap = (i: number) => (x?.gaps.some((g) => i >= g.at && i < g.at + g.size) ? 'dim' : '')
  return (
    <Bench>
      <div className="stripe">
        <Row wrap>
          <Text as="b" clip>
            {kept.name}
          </Text>
          <Text tone="soft" small>
            {check.data?.kind ?? ''} layout
          </Text>
          <Select
            value={kept.version}
            inputProps={{ 'aria-label': 'Version' }}
            onChange={(e) => void version(Number(e.target.value))}
          >
            {kept.versions.map((v) => (
              <MenuItem key={v.no} value={v.no}>
                version {v.no} · {when(v.made)}
              </MenuItem>
            ))}
          </Select>
          <Button disabled={depth[0] === 0} onClick={() => edit.current?.undo()}>
            Undo
          </Button>
          <Button disabled={depth[1] === 0} onClick={() => edit.current?.redo()}>
            Redo
          </Button>
          <Button variant="contained" disabled={!changed} onClick={() => void keep()}>
            Keep this version
          </Button>
          {doc !== kept.document && (
            <TextButton
              data-draft
              title="What is typed is saved as a draft; this goes back to the version that is kept"
              onClick={() => edit.current?.replace(kept.document)}
            >
              Drop the draft
            </TextButton>
          )}
          <Tag tone={works ? 'good' : 'warn'} data-check={works ? 'works' : 'error'}>
            {works ? 'compiles' : 'does not compile'}
          </Tag>
          <span className="grow" />
          <TextButton component="label">
            Bring in a file
            <input type="file" accept=".yaml,.yml" hidden onChange={(e) => bring(e.target.files?.[0])} />
          </TextButton>
          <TextButton component="a" href={layoutDocument(kept.id)}>
            Save as a file
          </TextButton>
          <TextButton
            onClick={() =>
              void go(entry ? `/p/${project}/sources/bytes/${entry}` : `/p/${project}/sources/layouts`)
            }
          >
            {entry ? 'Back to the bytes' : 'All layouts'}
          </TextButton>
        </Row>
        <Explains x={x} sel={sel} onGo={(at, n) => select(at, n, 'bytes')} />
      </div>
      <Fault error={fault} />
      <Panes
        id="layout"
        widths={[{ of: 420, least: 240 }, 'rest', { of: 588, least: 300 }]}
        labels={['the document', 'what it reads', 'the bytes']}
      >
        <Pane column>
          <YamlEditor
            ref={edit}
            start={first.draft ?? first.document}
            schema={schema.data}
            problem={problem}
            onChange={setDoc}
            onDepth={(u, r) => setDepth([u, r])}
            onLine={(line) => {
              const p = pieceOfLine(x?.pieces ?? [], line)
              if (p) select(p.at, p.size)
            }}
          />
          {problem && (
            <div className="fault low" role="alert" data-problem>
              <TextButton onClick={() => edit.current?.goTo(problem.line ?? 1, problem.column ?? 1)}>
                Line {problem.line ?? '?'}, column {problem.column ?? '?'}
              </TextButton>
              : {problem.message}
              {x?.at !== undefined && works && (
                <>
                  {' '}
                  <TextButton onClick={() => select(x.at!, 1, 'bytes')}>show the byte</TextButton>
                </>
              )}
            </div>
          )}
        </Pane>
        <Pane column>
          {!entry ? (
            <Empty>
              <b>No entry is open beside it</b>Choose an entry in{' '}
              <Link to={`/p/${project}/sources`}>Sources</Link>, look at its bytes, and describe it from
              there.
            </Empty>
          ) : (
            x &&
            !x.recognised && (
              <Notice>recognise does not hold for this entry: its first bytes are others.</Notice>
            )
          )}
          <Tree
            pieces={x?.pieces ?? []}
            sel={sel}
            onChoose={(p) => {
              if (!p.in) select(p.at, p.size)
              if (p.line) edit.current?.goTo(p.line, p.column ?? 1)
            }}
          />
          <Fault error={read.error} />
        </Pane>
        <Pane column>
          {entry > 0 && size > 0 && (
            <View
              entry={entry}
              size={size}
              top={top}
              setTop={setTop}
              at={sel.at}
              length={sel.n}
              now={() => now.current}
              select={(a, n) => select(a, n, 'bytes')}
              show={12}
              marks={gap}
            />
          )}
          <Tools>
            <ToggleButtonGroup
              exclusive
              size="small"
              value={tab}
              aria-label="Show"
              onChange={(_, v: string | null) => v && setTab(v)}
            >
              <ToggleButton value="result">What comes out</ToggleButton>
              <ToggleButton value="coverage">Coverage</ToggleButton>
            </ToggleButtonGroup>
          </Tools>
          {tab === 'result' ? (
            entry > 0 ? (
              <Result
                entry={entry}
                doc={late}
                works={works && !x?.message}
                onGo={(a, n) => select(a, n, 'bytes')}
              />
            ) : null
          ) : (
            <CoveragePane
              layout={kept.id}
              project={project}
              changed={changed}
              onLine={(l, c) => edit.current?.goTo(l, c)}
            />
          )}
        </Pane>
      </Panes>
    </Bench>
  )
}

/** How much of the entry is explained, and where it is not. */
function Explains({
  x,
  sel,
  onGo,
}: {
  x?: S['Explained']
  sel: { at: number; n: number }
  onGo: (at: number, n: number) => void
}) {
  if (!x || x.size === 0) return null
  return (
    <>
      <div className="stripband thin" role="group" aria-label="What is not explained">
        {x.gaps.map((g) => (
          <button
            key={g.at}
            className="gap"
            style={{ left: `${(100 * g.at) / x.size}%`, width: `max(2px, ${(100 * g.size) / x.size}%)` }}
            title={`${count(g.size)} bytes from ${count(g.at)} on that nothing explains`}
            aria-label={`unexplained at ${g.at}`}
            onClick={() => onGo(g.at, g.size)}
          />
        ))}
        <i style={{ left: `${(100 * sel.at) / x.size}%` }} />
      </div>
      <Row wrap className="small">
        <span data-covered={x.covered}>
          {x.covered === x.size
            ? `All ${count(x.size)} bytes are explained`
            : `${count(x.covered)} of ${count(x.size)} bytes are explained (${Math.floor((100 * x.covered) / x.size)} %)`}
        </span>
        {x.made && (
          <Text tone="soft" data-made>
            {x.made}
          </Text>
        )}
      </Row>
    </>
  )
}

/** The field that a line of the layout describes. */
function pieceOfLine(list: Piece[], line: number): Piece | undefined {
  for (const p of list) {
    if (p.line === line && !p.in) return p
    const in_ = pieceOfLine(p.pieces ?? [], line)
    if (in_) return in_
  }
}

/** The fields as a tree; the innermost that holds the chosen byte is marked and shown. */
function Tree({
  pieces,
  sel,
  onChoose,
}: {
  pieces: Piece[]
  sel: { at: number; n: number }
  onChoose: (p: Piece) => void
}) {
  const [shut, setShut] = useState<Record<string, boolean>>({})
  const holds = (p: Piece) => !p.in && sel.at >= p.at && sel.at < p.at + p.size
  // The way to the chosen byte.
  const way = new Set<string>()
  let last = ''
  const find = (list: Piece[], path: string) => {
    const k = list.findIndex(holds)
    if (k < 0) return
    const here = `${path}/${k}`
    way.add(here)
    last = here
    find(list[k].pieces ?? [], here)
  }
  find(
    pieces.filter((p) => p.name !== 'used as'),
    '',
  )
  const box = useRef<HTMLDivElement>(null)
  useEffect(() => {
    box.current?.querySelector('.on')?.scrollIntoView({ block: 'nearest' })
  }, [last, sel.at])
  const rows: ReactNode[] = []
  const draw = (list: Piece[], path: string, deep: number) =>
    list.forEach((p, k) => {
      const here = `${path}/${k}`
      const inner = p.pieces ?? []
      const open =
        inner.length > 0 &&
        (shut[here] === undefined
          ? (deep === 0 && inner.length <= 64 && p.name !== 'used as') || way.has(here) || !!p.error
          : !shut[here])
      rows.push(
        <div
          key={here}
          className={`leaf ${here === last ? 'on' : ''} ${p.error ? 'is-bad' : ''}`}
          role="treeitem"
          aria-selected={here === last}
          aria-level={deep + 1}
          aria-expanded={inner.length ? open : undefined}
          tabIndex={0}
          data-piece={p.name}
          onClick={() => onChoose(p)}
          onKeyDown={(e) => {
            if (e.key === 'Enter') onChoose(p)
            if (e.key === 'ArrowRight') setShut({ ...shut, [here]: false })
            if (e.key === 'ArrowLeft') setShut({ ...shut, [here]: true })
            if (e.key === 'ArrowDown') {
              e.preventDefault()
              ;(e.currentTarget.nextElementSibling as HTMLElement)?.focus()
            }
            if (e.key === 'ArrowUp') {
              e.preventDefault()
              ;(e.currentTarget.previousElementSibling as HTMLElement)?.focus()
            }
          }}
        >
          <span style={{ paddingLeft: 4 + 12 * deep }}>
            {inner.length > 0 ? (
              <button
                className="fold"
                aria-label={open ? 'Close' : 'Open'}
                tabIndex={-1}
                onClick={(e) => {
                  e.stopPropagation()
                  setShut({ ...shut, [here]: open })
                }}
              >
                {open ? '▾' : '▸'}
              </button>
            ) : (
              <span className="fold" />
            )}
            <b title={p.name}>{p.name}</b>
          </span>
          <Text tone="soft" title={p.type}>
            {p.type}
          </Text>
          <span className="v" title={p.value}>
            {p.error ? '' : (p.value ?? (path.includes('/') && !p.count ? inner[0]?.value : ''))}
          </span>
          <Text tone="soft" className="n">
            {p.in ? `${p.in} ` : ''}
            {p.name === 'used as' ? '' : p.at.toString(16)}
          </Text>
          <Text tone="soft" className="n">
            {p.name === 'used as' ? '' : count(p.size)}
          </Text>
        </div>,
      )
      if (p.error)
        rows.push(
          <div key={here + 'e'} className="leaf small bad" style={{ paddingLeft: 24 + 14 * deep }}>
            {p.error}
          </div>,
        )
      if (!open) return
      if (p.first)
        rows.push(
          <div key={here + 'a'} className="leaf soft small" style={{ paddingLeft: 24 + 14 * deep }}>
            {count(p.first)} before
          </div>,
        )
      draw(inner, here, deep + 1)
      const after = (p.count ?? 0) - (p.first ?? 0) - inner.length
      if (p.count && after > 0)
        rows.push(
          <div key={here + 'z'} className="leaf soft small" style={{ paddingLeft: 24 + 14 * deep }}>
            {count(after)} more; choose a byte among them to see it
          </div>,
        )
    })
  draw(pieces, '', 0)
  return (
    <div className="tree" ref={box} role="tree" aria-label="Fields">
      <div className="leaf th">
        <span style={{ paddingLeft: 20 }}>Field</span>
        <span>Type</span>
        <span className="v">Value</span>
        <span className="n">At, hex</span>
        <span className="n">Bytes</span>
      </div>
      {rows}
    </div>
  )
}

function Result({
  entry,
  doc,
  works,
  onGo,
}: {
  entry: number
  doc: string
  works: boolean
  onGo: (at: number, n: number) => void
}) {
  const made = useMade(entry, doc, works)
  const m = made.data
  return (
    <Scroll column data-result={m?.kind}>
      <Fault error={made.error} />
      {!works && (
        <Item className="soft small">
          {m
            ? 'The layout fails now; this is what it last gave.'
            : 'Nothing comes out yet: the layout does not read this entry to its end.'}
        </Item>
      )}
      {m?.picture && (
        <div className="trialpicture">
          <img
            alt="What the layout makes of the entry"
            data-made-picture={`${m.width}x${m.height}`}
            src={`data:image/png;base64,${m.picture}`}
            style={{ width: Math.min(400, Math.max(160, m.width ?? 0)) }}
          />
        </div>
      )}
      {m?.model && (
        <>
          <View3D
            className="small"
            tools={false}
            panes={[
              {
                url: viewUrl(m.model.scene),
                nodes: m.model.stats.nodes,
                title: m.model.name,
                note: `${count(m.model.stats.triangles)} triangles · ${count(m.model.stats.bones)} bones`,
              },
            ]}
          />
          {m.model.pictures
            .filter((p) => p.missing)
            .map((p) => (
              <Item key={p.name}>
                <Text tone="warn">{p.name}</Text> not found
                {p.looked.map((l) => (
                  <small key={l}>looked for {l}</small>
                ))}
              </Item>
            ))}
          {m.model.notes.map((n) => (
            <Item className="small" key={n}>
              {n}
            </Item>
          ))}
        </>
      )}
      {m?.kind === 'container' &&
        (!m.entries?.length ? (
          <Empty>
            <b>No entries yet</b>Say under container which list holds them: each, name, at and size.
          </Empty>
        ) : (
          <>
            <Item className="small soft">
              {plural(m.count ?? 0, 'entry', 'entries')}
              {(m.count ?? 0) > m.entries.length && `, the first ${count(m.entries.length)}`}
            </Item>
            {m.entries.map((e, i) => (
              <button
                className="leaf wide"
                key={i}
                data-made-entry={e.name}
                onClick={() => onGo(e.at, e.size)}
              >
                <Text as="b" clip>
                  {e.name}
                </Text>
                <Text tone="soft">{e.codec}</Text>
                <span className="n">{bytes(e.size)}</span>
                {e.error && (
                  <Text tone="bad" small clip title={e.error}>
                    {e.error}
                  </Text>
                )}
              </button>
            ))}
          </>
        ))}
    </Scroll>
  )
}

function CoveragePane({
  layout,
  project,
  changed,
  onLine,
}: {
  layout: number
  project: number
  changed: boolean
  onLine: (line: number, column: number) => void
}) {
  const go = useNavigate()
  const { act, fault } = useAct(project)
  const { data: c, error } = useCoverage(project, layout)
  const open = (entry: number, at?: number) =>
    void go(`/p/${project}/sources/layout/${layout}?entry=${entry}${at ? `&at=${at}` : ''}`)
  return (
    <Scroll data-coverage={c && !c.running && c.version ? c.entries : ''}>
      <Body className="row wrap">
        <Button onClick={() => act(() => runCoverage(layout))} disabled={c?.running}>
          {c?.running ? 'Running…' : 'Run over all it recognises'}
        </Button>
        {changed && (
          <Text tone="soft" small>
            runs the version that is kept
          </Text>
        )}
      </Body>
      <Fault error={error ?? fault} />
      {c && c.version > 0 && (
        <>
          <FactGrid>
            <span>Entries</span>
            <div>
              {count(c.entries)} recognised by version {c.version}
            </div>
            <span>Opened</span>
            <div className={c.failed ? '' : 'ok'}>{count(c.opened)}</div>
            <span>Failed</span>
            <div className={c.failed ? 'bad' : ''}>{count(c.failed)}</div>
            <span>Explained</span>
            <div>
              {c.bytes ? `${Math.floor((100 * c.explained) / c.bytes)} % of ${bytes(c.bytes)}` : 'nothing'}
            </div>
          </FactGrid>
          {c.faults.length > 0 && (
            <Head plain>
              <h2>Failed at</h2>
            </Head>
          )}
          {c.faults.map((f, i) => (
            <Item key={i}>
              <Text tone="bad">{count(f.count)}×</Text>{' '}
              {f.line ? (
                <TextButton onClick={() => onLine(f.line!, f.column ?? 1)}>
                  line {f.line}, column {f.column}
                </TextButton>
              ) : null}{' '}
              {f.message}
              <small>
                first in <TextButton onClick={() => open(f.entry, f.at)}>{f.path}</TextButton>
                {f.at !== undefined && ` at offset ${count(f.at)}`}
              </small>
            </Item>
          ))}
          {c.worst.some((w) => w.explained < w.size) && (
            <Head plain>
              <h2>Least explained</h2>
            </Head>
          )}
          {c.worst
            .filter((w) => w.explained < w.size)
            .slice(0, 12)
            .map((w) => (
              <Item key={w.entry}>
                <TextButton onClick={() => open(w.entry)}>{w.path}</TextButton>
                <small>
                  {count(w.size - w.explained)} of {count(w.size)} bytes are not explained
                </small>
              </Item>
            ))}
        </>
      )}
    </Scroll>
  )
}
