import { Button } from '@mui/material'
import { useState } from 'react'
import { Link } from 'react-router'
import { deliver, deliveryFile, useDeliveries, useRehearsal } from '../api/chains'
import { useFind, useFindSources } from '../api/finds'
import { useAct } from '../api/http'
import { Fault } from '../parts/bits'
import { bytes, named, plural } from '../parts/format'
import { useChosenChain } from './Chain'

interface Manifest {
  file: string
  sha256: string
  target?: string
  excavate: string
  sources: { name: string; sha256?: string; entries: string[]; terms: { text?: string; owner?: string } }[]
  chain: { chain: string; steps: { step: string; off?: boolean }[] }
  stepVersions: Record<string, number>
  rehearsal?: { stops: number; warns: number; holds: number }
  notes: string[]
}

export function Delivery() {
  const { project, chain, chains, error } = useChosenChain('delivery')
  const { data: list, error: fail } = useDeliveries(project)
  const { data: r } = useRehearsal(project, chain?.id)
  const { data: find } = useFind(project, chain?.find)
  const { data: sources } = useFindSources(project, chain?.find)
  const { act, fault } = useAct(project)
  const [open, setOpen] = useState(0)
  if (chains?.length === 0)
    return (
      <div className="empty">
        <b>Nothing to deliver yet</b>Start a chain for an asset in{' '}
        <Link to={`/p/${project}/finds`}>Finds</Link>.
      </div>
    )
  const make = () =>
    act(
      () => deliver(chain!.id),
      (d) => setOpen(d.id),
    )
  const shown = list?.find((d) => d.id === (open || list[0]?.id))
  const m = shown?.manifest as unknown as Manifest | undefined
  return (
    <div className="cols cols-delivery">
      <div className="pane">
        <div className="head">
          <h2>Deliver</h2>
          {find && <span className="tag">{find.name}</span>}
        </div>
        <Fault error={error ?? fail ?? fault} />
        <div className="body" style={{ paddingTop: 10 }}>
          A GLB with skin, motion and pictures inside, in a zip with its manifest and chain.
          {r?.ready &&
            (r.stops > 0 ? (
              <p className="bad">
                The rehearsal stops at {plural(r.stops, 'finding')}.{' '}
                <Link to={`/p/${project}/rehearsal/${chain?.id}`}>See them</Link>
              </p>
            ) : (
              <p className="ok">
                The rehearsal finds nothing that stops it
                {r.warns > 0 && `, and ${plural(r.warns, 'warning')}`}.
              </p>
            ))}
          <p>
            <Button variant="contained" onClick={() => make()} disabled={!chain || !find?.model}>
              Make delivery
            </Button>
          </p>
        </div>
        {sources && (
          <>
            <div className="head top">
              <h2>Made from</h2>
            </div>
            {sources.map((s) => (
              <div className="item" key={s.source} data-origin={s.source}>
                <b>{s.source}</b>{' '}
                <span className={`tag ${s.rights && s.short !== 'private use only' ? '' : 'w'}`}>
                  {s.short}
                </span>
                {s.rights?.owner && <small>{s.rights.owner}</small>}
                {s.rights?.licence && <small style={{ whiteSpace: 'pre-line' }}>{s.rights.licence}</small>}
                {s.text && s.text.trim() !== s.rights?.licence?.trim() && (
                  <small style={{ whiteSpace: 'pre-line' }}>{s.text}</small>
                )}
                <small className="soft">{named(s.entries, 4)}</small>
              </div>
            ))}
          </>
        )}
      </div>
      <div className="pane flat">
        <table>
          <thead>
            <tr>
              <th>Delivery</th>
              <th>Made</th>
              <th className="n">Size</th>
              <th>State</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {list?.map((d) => (
              <tr
                key={d.id}
                data-delivery={d.id}
                data-state={d.state}
                style={d.id === shown?.id ? { background: 'var(--verdiT)' } : undefined}
                onClick={() => setOpen(d.id)}
              >
                <td>
                  <b>{d.name}</b>
                </td>
                <td className="soft">
                  {new Date(d.created).toLocaleString('en-GB', { dateStyle: 'medium', timeStyle: 'short' })}
                </td>
                <td className="n">{d.state === 'ready' ? bytes(d.size) : ''}</td>
                <td>
                  {d.state === 'ready' ? (
                    <span className="tag g">ready</span>
                  ) : d.state === 'failed' ? (
                    <span className="tag b" title={d.error}>
                      failed
                    </span>
                  ) : (
                    <span className="tag">being made</span>
                  )}
                </td>
                <td className="n">
                  {d.state === 'ready' && (
                    <Button component="a" href={deliveryFile(d.id)} download={d.name} data-download>
                      Download
                    </Button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        {list?.length === 0 && (
          <div className="empty">
            <b>Nothing delivered yet</b>Make a delivery on the left. The rehearsal says beforehand what the
            target will object to.
          </div>
        )}
        {shown?.error && <Fault error={{ message: shown.error }} />}
        {m && (
          <>
            <div className="head top">
              <h2>Manifest of {shown?.name}</h2>
              <span className="soft small">Excavate {m.excavate}</span>
            </div>
            <div className="facts">
              <span>File</span>
              <div>{m.file}</div>
              <span>SHA-256</span>
              <div className="mono" style={{ overflowWrap: 'anywhere' }}>
                {m.sha256}
              </div>
              {m.target && (
                <>
                  <span>Target</span>
                  <div>{m.target}</div>
                </>
              )}
              {m.rehearsal && (
                <>
                  <span>Rehearsal</span>
                  <div>
                    {m.rehearsal.holds} hold, {m.rehearsal.warns} warn, {m.rehearsal.stops} stop
                  </div>
                </>
              )}
              <span>Chain</span>
              <div>
                {m.chain.steps
                  .map((s) => s.step + (s.off ? ' (off)' : ` v${m.stepVersions[s.step] ?? 1}`))
                  .join(' → ') || 'no steps'}
              </div>
            </div>
            <table>
              <thead>
                <tr>
                  <th>Source</th>
                  <th>Taken from it</th>
                  <th>SHA-256</th>
                </tr>
              </thead>
              <tbody>
                {m.sources.map((s) => (
                  <tr key={s.name}>
                    <td>{s.name}</td>
                    <td>
                      {s.entries.map((e) => (
                        <div key={e}>{e}</div>
                      ))}
                    </td>
                    <td className="mono soft" title={s.sha256}>
                      {s.sha256?.slice(0, 16)}
                      {s.sha256 && '…'}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
            {m.notes.map((n) => (
              <div className="item" key={n}>
                <span className="tag w">note</span> {n}
              </div>
            ))}
          </>
        )}
      </div>
    </div>
  )
}
