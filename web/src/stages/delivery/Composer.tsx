// What is to be delivered: the purpose and whether the terms allow it, the
// formats, and the files before they are made.
import { Button, MenuItem, Select, styled } from '@mui/material'
import { useEffect, type ReactNode } from 'react'
import { Link } from 'react-router'
import { rerun, useComposed, type Order } from '../../api/chains'
import { useFindSources } from '../../api/finds'
import type { S } from '../../api/http'
import { useTargets } from '../../api/targets'
import { Form, Label } from '../../parts/Form'
import { bytes, named, plural } from '../../parts/format'
import { Head } from '../../parts/Head'
import { Item } from '../../parts/Item'
import { Tag } from '../../parts/Tag'
import { Text } from '../../parts/Text'
import { Formats } from './Formats'

const purposes: [NonNullable<Order['purpose']>, string][] = [
  ['myself', 'for myself'],
  ['share-changed', 'to share it changed'],
  ['share-unchanged', 'to share it unchanged'],
  ['sell', 'to sell it'],
]

const Files = styled('div')({
  padding: '8px 18px',
  font: '12.5px/20px var(--mono)',
  overflowX: 'auto',
  '& > div': { display: 'flex', justifyContent: 'space-between', gap: 12, whiteSpace: 'pre' },
  '& > div > span': { color: 'var(--soft)' },
})

interface Branch {
  name: string
  depth: number
  size?: number
}

/** Paths as a tree, folders once. */
function tree(files: { path: string; size: number }[]): Branch[] {
  const out: Branch[] = []
  let last: string[] = []
  for (const f of [...files].sort((a, b) => (a.path < b.path ? -1 : 1))) {
    const parts = f.path.split('/')
    let k = 0
    while (k < parts.length - 1 && parts[k] === last[k]) k++
    for (let i = k; i < parts.length - 1; i++) out.push({ name: `${parts[i]}/`, depth: i })
    out.push({ name: parts[parts.length - 1], depth: parts.length - 1, size: f.size })
    last = parts.slice(0, -1)
  }
  return out
}

export function Composer({
  project,
  chain,
  others,
  asset,
  order,
  onOrder,
  onComposed,
  children,
}: {
  project: number
  chain: S['Chain']
  /** Chains that are held against the same target, which may go along. */
  others: S['Chain'][]
  asset?: string
  order: Order
  onOrder: (o: Order) => void
  /** What is known of it: whether the terms allow it, what the rehearsal stops. */
  onComposed: (c?: S['Composed']) => void
  /** What is done with it. */
  children: ReactNode
}) {
  const { data: c, error } = useComposed(project, chain.id, order)
  const { data: targets } = useTargets()
  const { data: sources } = useFindSources(project, chain.find)
  const sheet = targets?.find((t) => t.id === chain.target)
  const refused = c?.refused.length ?? 0
  const alongside = others.filter((x) => order.also?.includes(x.id))
  useEffect(() => onComposed(c), [c, onComposed])
  const set = (o: Partial<Order>) => onOrder({ ...order, ...o })
  return (
    <>
      <Head
        title={asset ? `Deliver ${asset}` : 'Deliver'}
        end={<Tag clip>{sheet?.name ?? chain.target}</Tag>}
      />
      <Form>
        <Label id="purpose">Purpose</Label>
        <Select
          fullWidth
          value={order.purpose ?? 'myself'}
          labelId="purpose"
          onChange={(e) => set({ purpose: e.target.value })}
        >
          {purposes.map(([k, words]) => (
            <MenuItem key={k} value={k}>
              {words}
            </MenuItem>
          ))}
        </Select>
        {c && refused === 0 && (
          <Text as="div" tone="good" small data-allowed>
            {sources && sources.length > 1 && !order.also
              ? `no objection from ${plural(sources.length, 'source')}`
              : 'no objection'}
          </Text>
        )}
        {c?.refused.map((r) => (
          <Item key={r.source} data-refused={r.source}>
            <Tag tone="bad">refused</Tag> <b>{r.source}</b>: {r.why}.{r.says && <small>“{r.says}”</small>}
            {r.evidence && <small>read in {r.evidence}</small>}
            <small>
              If you have a permission, state it with the source in{' '}
              <Link to={`/p/${project}/sources`}>Sources</Link>, with where it was given.
            </small>
          </Item>
        ))}
        {others.length > 0 && (
          <>
            <Label id="also">Also in this package</Label>
            <Select
              fullWidth
              multiple
              displayEmpty
              value={order.also ?? []}
              labelId="also"
              data-also={order.also?.length ?? 0}
              onChange={(e) => {
                const ids = e.target.value as number[]
                set({ also: ids.length > 0 ? ids : undefined })
              }}
              renderValue={(ids) =>
                ids.length > 0
                  ? named(
                      others.filter((x) => ids.includes(x.id)).map((x) => x.name),
                      3,
                    )
                  : 'nothing else'
              }
            >
              {others.map((x) => (
                <MenuItem key={x.id} value={x.id}>
                  {x.name}
                </MenuItem>
              ))}
            </Select>
          </>
        )}
      </Form>
      <Formats key={chain.id} order={order} onOrder={onOrder} />
      <Head
        title="Files, before they are made"
        end={<Text tone="soft">{c?.ready && bytes(c.size)}</Text>}
        ruled
      />
      {error && (
        <Item>
          <Tag tone="bad">cannot be made</Tag> {error.message}
        </Item>
      )}
      {c && !c.ready && !error && (
        <Item>
          {c.running ? (
            'It is being computed; the files follow.'
          ) : (
            <>
              Not all of it is computed.{' '}
              <Button onClick={() => [chain.id, ...(order.also ?? [])].forEach((id) => void rerun(id))}>
                Compute it
              </Button>
            </>
          )}
        </Item>
      )}
      {c?.ready && !error && (
        <Files data-files={c.files.length}>
          {tree(c.files).map((b, i) => (
            <div key={i}>
              {'  '.repeat(b.depth) + b.name}
              <span>{b.size !== undefined && bytes(b.size)}</span>
            </div>
          ))}
          {c.again.map((m) => (
            <div key={m}>
              <span>{m}: there already</span>
            </div>
          ))}
          <div>
            <span>{c.folders.length > 1 ? 'each with' : 'with'} manifest, chain and sheet</span>
          </div>
          {c.search.map((s) => (
            <div key={s.line}>
              <span>
                {s.file} + “{s.line}”
              </span>
            </div>
          ))}
        </Files>
      )}
      {c?.notes.map((n) => (
        <Item key={n}>
          <Tag tone="warn">note</Tag> {n}
        </Item>
      ))}
      {children}
      <MadeFrom project={project} find={chain.find} of={alongside.length > 0 ? chain.name : undefined} />
      {alongside.map((x) => (
        <MadeFrom key={x.id} project={project} find={x.find} of={x.name} />
      ))}
    </>
  )
}

/** The sources of an asset, with what may be done with them. */
function MadeFrom({
  project,
  find,
  of,
}: {
  project: number
  find: number
  /** Which of several it is. */
  of?: string
}) {
  const { data: sources } = useFindSources(project, find)
  return (
    <>
      <Head title={of ? `${of} is made from` : 'Made from'} ruled />
      {sources?.map((s) => (
        <Item key={s.source} data-origin={s.source}>
          <b>{s.source}</b>{' '}
          <Tag tone={s.rights && s.short !== 'private use only' ? 'plain' : 'warn'}>{s.short}</Tag>
          {s.rights?.owner && <small>{s.rights.owner}</small>}
          {s.rights?.licence && <Lines>{s.rights.licence}</Lines>}
          {s.text && s.text.trim() !== s.rights?.licence?.trim() && <Lines>{s.text}</Lines>}
          <small>{named(s.entries, 4)}</small>
        </Item>
      ))}
    </>
  )
}

const Lines = styled('small')({ whiteSpace: 'pre-line' })
