// A chain over many assets: what each step did to each of them, the odd ones
// first.
import { Button, Table, TableBody, TableCell, TableHead, TableRow, styled } from '@mui/material'
import { useVirtualizer } from '@tanstack/react-virtual'
import { useRef, useState } from 'react'
import { Link } from 'react-router'
import { sameForAll, useOver } from '../api/chains'
import { useAct, type S } from '../api/http'
import { useAddress } from '../parts/address'
import { Fault } from '../parts/bits'
import { count, plural } from '../parts/format'
import { useProjectId } from '../parts/project'
import { Scroll } from '../parts/Scroll'
import { Tag } from '../parts/Tag'
import { Text } from '../parts/Text'
import { Tone } from '../parts/Tone'
import { Tools } from '../parts/Tools'

const Page = styled('div')({
  display: 'flex',
  flexDirection: 'column',
  height: '100%',
  minHeight: 0,
  background: 'var(--panel)',
  '& .odd': { maxHeight: 190, overflow: 'auto', borderBottom: '1px solid var(--line)', flex: 'none' },
  '& .odd > a, & .asset': {
    display: 'flex',
    gap: 12,
    alignItems: 'center',
    padding: '0 18px',
    minHeight: 28,
    borderBottom: '1px solid var(--thin)',
    color: 'inherit',
    textDecoration: 'none',
    fontSize: 13,
  },
  '& .odd > a:hover, & .asset:hover': { background: 'var(--paper)' },
  '& .asset': { position: 'absolute', left: 0, right: 0, top: 0 },
  '& .asset > a': { width: 220, flex: 'none', color: 'inherit' },
  '& .cells': { display: 'flex', gap: 3, flex: 1, minWidth: 0 },
  '& .cell': {
    flex: '1 1 0',
    minWidth: 14,
    maxWidth: 90,
    height: 18,
    border: '1px solid var(--line)',
    fontSize: 11,
    textAlign: 'center',
    overflow: 'hidden',
    '&.done': { background: 'var(--verdiT)' },
    '&.idle, &.off': { color: 'var(--soft)' },
    '&.lost': { borderColor: 'var(--ochre)', color: 'var(--ochre)', fontWeight: 600 },
    '&.failed': { borderColor: 'var(--iron)', color: 'var(--iron)', fontWeight: 600 },
    '&.waiting': { borderStyle: 'dashed' },
  },
})

const percent = (x: number) => `${x > 0 ? '+' : x < 0 ? '−' : ''}${Math.abs(Math.round(100 * x))} %`
const mark = (c: S['Many']['assets'][number]['cells'][number]) =>
  c.state === 'done' || c.state === 'lost' ? percent(c.share) : c.state

export function Over() {
  const project = useProjectId()
  const [params] = useAddress()
  const name = params.get('name') ?? ''
  const { data, error } = useOver(project, name)
  const { act, fault, busy } = useAct(project)
  const [said, setSaid] = useState('')
  const box = useRef<HTMLDivElement>(null)
  const assets = data?.assets ?? []
  const rows = useVirtualizer({
    count: assets.length,
    getScrollElement: () => box.current,
    estimateSize: () => 28,
    overscan: 10,
  })
  const waiting = data?.steps.some((s) => s.waiting > 0)
  const own = assets.filter((a) => a.own).length
  const address = (chain: number, step?: string) => {
    const band = step === undefined ? -1 : (data?.steps.findIndex((s) => s.title === step) ?? -1)
    return `/p/${project}/chain/${chain}${band >= 0 ? `?band=${band + 1}` : ''}`
  }
  return (
    <Page data-over={assets.length}>
      <Tools>
        <h2>{name}</h2>
        <Text tone="soft">
          over {plural(assets.length, 'asset')}
          {waiting ? ', still running' : ''}
        </Text>
        {said && <Tone is="good">{said}</Tone>}
        <span className="grow" />
        {assets.length > 1 && (
          <Button
            disabled={busy}
            title={`All ${count(assets.length)} get the steps of ${assets[0].name}; each can be undone`}
            onClick={() =>
              act(
                () => sameForAll(assets[0].chain),
                (r) => setSaid(`${plural(r.changed, 'chain')} changed`),
              )
            }
          >
            Steps of {assets[0].name} for all
          </Button>
        )}
      </Tools>
      <Fault error={error ?? fault} />
      {data && (
        <Table size="small">
          <TableHead>
            <TableRow>
              <TableCell>Step</TableCell>
              {['Done', 'Idle', 'Lost', 'Failed', 'Waiting', 'Changed'].map((h) => (
                <TableCell key={h} align="right">
                  {h}
                </TableCell>
              ))}
            </TableRow>
          </TableHead>
          <TableBody>
            {data.steps.map((s, i) => (
              // Two steps may bear one title.
              <TableRow key={`${i} ${s.title}`} data-step={s.title}>
                <TableCell>
                  {i + 1} {s.title}
                </TableCell>
                {[s.done, s.idle, s.lost, s.failed, s.waiting].map((n, k) => (
                  <TableCell key={k} align="right">
                    {count(n)}
                  </TableCell>
                ))}
                <TableCell align="right">{percent(s.share)}</TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      )}
      {data && data.odd.length > 0 && (
        <>
          <Tools low>
            <b>Out of the ordinary</b>
            <Text tone="soft" small>
              {count(data.odd.length)}, the oddest first
            </Text>
          </Tools>
          <div className="odd">
            {data.odd.slice(0, 200).map((o) => (
              <Link key={`${o.chain} ${o.step} ${o.says}`} to={address(o.chain, o.step)} data-odd={o.name}>
                <b>{o.name}</b>
                <Tag>{o.step}</Tag>
                <Text clip title={o.says}>
                  {o.says}
                </Text>
              </Link>
            ))}
          </div>
        </>
      )}
      <Tools low>
        <b>Assets</b>
        {own > 0 && (
          <Text tone="soft" small>
            {plural(own, 'has', 'have')} steps of their own
          </Text>
        )}
      </Tools>
      <Scroll ref={box} tabIndex={0} role="list" aria-label="Assets">
        <div style={{ height: rows.getTotalSize(), position: 'relative' }}>
          {rows.getVirtualItems().map((r) => {
            const a = assets[r.index]
            return (
              <div
                key={a.chain}
                role="listitem"
                className="asset"
                style={{ transform: `translateY(${r.start}px)` }}
                data-asset-row={a.name}
              >
                <Link to={address(a.chain)}>{a.name}</Link>
                <span className="cells">
                  {a.cells.map((c, i) => (
                    <span key={i} className={`cell ${c.state}`} title={`${data?.steps[i]?.title}: ${c.says}`}>
                      {mark(c)}
                    </span>
                  ))}
                </span>
              </div>
            )
          })}
        </div>
      </Scroll>
    </Page>
  )
}
