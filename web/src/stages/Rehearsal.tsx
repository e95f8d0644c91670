import { Button } from '@mui/material'

import { Link } from 'react-router'
import { putSteps, setTarget, useRehearsal, useTargets } from '../api/chains'
import { useFind } from '../api/finds'
import { useAct, type S } from '../api/http'
import { viewUrl } from '../api/scenes'
import { Fault, Pictures } from '../parts/bits'
import { count, plural, seconds } from '../parts/format'
import { View3D } from '../parts/View3D'
import { useChosenChain } from './Chain'

const words: Record<S['Finding']['severity'], [string, string]> = {
  stops: ['b', 'stops'],
  warns: ['w', 'warns'],
  holds: ['g', 'holds'],
}

export function Rehearsal() {
  const { project, chain, chains, error } = useChosenChain('rehearsal')
  const { data: r, error: fail } = useRehearsal(project, chain?.id)
  const { data: find } = useFind(project, chain?.find)
  const { data: targets } = useTargets()
  const { act, fault } = useAct(project)
  if (chains?.length === 0)
    return (
      <div className="empty">
        <b>Nothing to rehearse yet</b>Start a chain for an asset in{' '}
        <Link to={`/p/${project}/finds`}>Finds</Link>.
      </div>
    )
  const mend = (f: S['Finding']) => {
    const steps = [...chain!.steps]
    if (f.mendFirst) steps.unshift(f.mend!)
    else steps.push(f.mend!)
    act(() => putSteps(chain!, steps))
  }
  const model = find?.model
  const missing = model?.pictures.filter((p) => p.missing) ?? []
  return (
    <div className="cols cols-rehearsal">
      <div className="pane">
        <div className="head">
          <h2>Target sheet</h2>
          {targets && targets.length > 1 && (
            <select
              value={chain?.target}
              aria-label="Target sheet"
              onChange={(e) => act(() => setTarget(chain!.id, e.target.value))}
            >
              {targets.map((t) => (
                <option key={t.id} value={t.id}>
                  {t.name}
                </option>
              ))}
            </select>
          )}
        </div>
        {r && (
          <>
            <div className="body" style={{ paddingTop: 12 }}>
              <b style={{ fontSize: 15 }}>{r.target.name}</b>
              <div className="soft">{r.target.about}</div>
            </div>
            <div className="facts" style={{ gridTemplateColumns: '86px minmax(0,1fr)' }}>
              {r.target.lines.map((l) => [
                <span key={l.what}>{l.what}</span>,
                <div key={l.what + 'v'}>{l.value}</div>,
              ])}
            </div>
            <div className="head top">
              <h2>Rehearsed</h2>
            </div>
            <div className="body soft">
              {chain?.name}, after step {r.afterStep}
              <br />
              {r.ready && r.milliseconds !== undefined && seconds(r.milliseconds / 1000)}
              <br />
              <br />
              <span data-tally={`${r.stops} ${r.warns} ${r.holds}`}>
                {plural(r.holds, 'rule holds', 'rules hold')}, {count(r.warns)}{' '}
                {r.warns === 1 ? 'warns' : 'warn'}, {count(r.stops)} {r.stops === 1 ? 'stops' : 'stop'}.
              </span>
            </div>
          </>
        )}
      </div>
      <div className="pane flat" style={{ background: 'var(--paper)' }}>
        <Fault
          error={
            error ?? fail ?? fault ?? (r?.error ? { message: `The chain stops: ${r.error}` } : undefined)
          }
        />
        {r && !r.ready && !r.error && (
          <div className="empty">The chain is being computed; the rehearsal follows.</div>
        )}
        {r?.findings.map((f, i) => (
          <div className="finding" key={i} data-rule={f.rule} data-severity={f.severity}>
            <div className="tg">
              <span className={`tag ${words[f.severity][0]}`}>{words[f.severity][1]}</span>
            </div>
            <div className="grow">
              <b>{f.title}</b>
              {f.where && <small>{f.where}</small>}
              {f.why && <p>{f.why}</p>}
            </div>
            {f.mend && (
              <Button variant={f.severity === 'stops' ? 'contained' : 'outlined'} onClick={() => mend(f)}>
                {f.mendText}
              </Button>
            )}
            {f.rule === 'pictures' && f.severity === 'stops' && (
              <Button component={Link} to={`/p/${project}/sources`}>
                Add a source
              </Button>
            )}
          </div>
        ))}
      </div>
      <div className="pane r">
        {r?.scene && (
          <View3D
            className="mid"
            tools={false}
            bones={r.stats?.bones}
            panes={[
              {
                url: viewUrl(r.scene, true),
                nodes: r.stats?.nodes,
                title: 'As the target would show it',
                note: r.stats && `${count(r.stats.triangles)} triangles · ${count(r.stats.bones)} bones`,
              },
            ]}
          />
        )}
        {missing.length > 0 && (
          <>
            <div className="head bare">
              <h2>Missing pictures</h2>
              <span className="tag w">{missing.length}</span>
            </div>
            <Pictures list={missing} />
          </>
        )}
        {r?.stats && (
          <table>
            <thead>
              <tr>
                <th>What is delivered</th>
                <th className="n">Count</th>
              </tr>
            </thead>
            <tbody>
              {(
                [
                  ['Triangles', r.stats.triangles],
                  ['Vertices', r.stats.vertices],
                  ['Materials', r.stats.materials],
                  ['Bones', r.stats.bones],
                  ['Motions', r.stats.motions],
                ] as const
              ).map(([k, v]) => (
                <tr key={k}>
                  <td>{k}</td>
                  <td className="n">{count(v)}</td>
                </tr>
              ))}
              <tr>
                <td>Pictures</td>
                <td className="n">
                  {r.stats.pictures - r.stats.missing} of {r.stats.pictures}
                </td>
              </tr>
            </tbody>
          </table>
        )}
      </div>
    </div>
  )
}
