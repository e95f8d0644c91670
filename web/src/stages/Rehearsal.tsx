import { Button, MenuItem, Select } from '@mui/material'

import { Link } from 'react-router'
import { useState } from 'react'
import { mendAll, putSteps, rerun, setTarget, useRehearsal } from '../api/chains'
import { useTargets } from '../api/targets'
import { useFind } from '../api/finds'
import { useAct, type S } from '../api/http'
import { viewUrl } from '../api/scenes'
import { Fault, Pictures } from '../parts/bits'
import { count, plural, seconds } from '../parts/format'
import { View3D } from '../parts/View3D'
import { useChainAtWork } from '../parts/chainAtWork'
import { MissingPictures } from '../parts/MissingPictures'
import { Table, TableHead, TableBody, TableRow, TableCell } from '@mui/material'
import { Body } from '../parts/Body'
import { Empty } from '../parts/Empty'
import { FactGrid } from '../parts/Facts'
import { Head } from '../parts/Head'
import { Pane } from '../parts/Pane'
import { Tag, type TagTone } from '../parts/Tag'
import { Text } from '../parts/Text'
import { TextButton } from '../parts/TextButton'
import { Panes } from '../parts/Panes'
import { Finding } from '../parts/Finding'

type Found = S['Finding']

/** What a finding is about, as the 3D view names it. */
const keysOf = (f: Found) =>
  (f.things ?? [])
    .filter((t) => t.kind === 'node' || t.kind === 'material' || t.kind === 'mesh')
    .map((t) => ({ node: 'n', material: 'k', mesh: 'm' })[t.kind as 'node' | 'material' | 'mesh'] + t.index)

const words: Record<S['Finding']['severity'], [TagTone, string]> = {
  stops: ['bad', 'stops'],
  warns: ['warn', 'warns'],
  holds: ['good', 'holds'],
}

export function Rehearsal() {
  const { project, chain, chains, error } = useChainAtWork('rehearsal')
  const { data: r, error: fail } = useRehearsal(project, chain?.id)
  const { data: find } = useFind(project, chain?.find)
  const { data: targets } = useTargets()
  const { act, fault, busy } = useAct(project)
  const [shown, setShown] = useState('')
  const [said, setSaid] = useState<S['Mended']>()
  if (chains?.length === 0)
    return (
      <Empty>
        <b>Nothing to rehearse yet</b>Start a chain for an asset in{' '}
        <Link to={`/p/${project}/finds`}>Finds</Link>.
      </Empty>
    )
  const add = (mends: S['ChainStep'][]) => {
    setSaid(undefined)
    // What is stripped need not be worked on: it comes first.
    const first = mends.filter((m) => m.step === 'strip' && !m.with?.where && !m.with?.colliders)
    act(() => putSteps(chain!, [...first, ...chain!.steps, ...mends.filter((m) => !first.includes(m))]))
  }
  const all = () => act(() => mendAll(chain!.id), setSaid)
  const mendable = (r?.findings ?? []).filter((f) => f.severity !== 'holds' && f.mends && !f.ask).length
  const lit = r?.findings.find((f) => f.rule + f.title === shown)
  const model = find?.model
  const missing = model?.pictures.filter((p) => p.missing) ?? []
  return (
    <Panes
      id="rehearsal"
      widths={[{ of: 250, least: 190 }, 'rest', { of: 372, least: 260 }]}
      labels={['the target sheet', 'findings', 'the asset']}
    >
      <Pane>
        <Head>
          <h2>Sheet</h2>
          {targets && targets.length > 1 && (
            <Select
              value={chain?.target ?? ''}
              inputProps={{ 'aria-label': 'Target sheet' }}
              onChange={(e) => act(() => setTarget(chain!.id, e.target.value))}
            >
              {targets.map((t) => (
                <MenuItem key={t.id} value={t.id}>
                  {t.name}
                </MenuItem>
              ))}
            </Select>
          )}
        </Head>
        {r && (
          <>
            <Body acts>
              <b>{r.target.name}</b>
              <Text as="div" tone="soft">
                {r.target.about}
              </Text>
            </Body>
            <FactGrid names={86}>
              {r.target.lines.map((l) => [
                <span key={l.what}>{l.what}</span>,
                <div key={l.what + 'v'}>{l.value}</div>,
              ])}
            </FactGrid>
            <Body>
              <Link to={`/p/${project}/targets/${r.target.id}`}>The whole sheet</Link>
              {' · '}
              <Link to={`/p/${project}/targets`}>All sheets</Link>
            </Body>
            <Head ruled>
              <h2>Rehearsed</h2>
              {find && <Tag>{find.name}</Tag>}
            </Head>
            <Body className="soft">
              {chain?.name}, after step {r.afterStep}
              <br />
              {r.ready && r.milliseconds !== undefined && seconds(r.milliseconds / 1000)}
              <br />
              <br />
              <span data-tally={`${r.stops} ${r.warns} ${r.holds}`}>
                {plural(r.holds, 'rule holds', 'rules hold')}, {plural(r.warns, 'warns', 'warn')},{' '}
                {plural(r.stops, 'stops', 'stop')}.
              </span>
              <br />
              <br />
              <Link to={`/p/${project}/rehearsals`}>All chains of the project</Link>
            </Body>
          </>
        )}
      </Pane>
      <Pane ground>
        <Fault
          error={
            error ?? fail ?? fault ?? (r?.error ? { message: `The chain stops: ${r.error}` } : undefined)
          }
        />
        {r && !r.ready && !r.error && r.running && (
          <Empty>The chain is being computed; the rehearsal follows.</Empty>
        )}
        {r && !r.ready && !r.error && !r.running && (
          <Empty>
            The chain is not computed. <Button onClick={() => act(() => rerun(chain!.id))}>Compute it</Button>
          </Empty>
        )}
        {r?.ready && r.stops === 0 && (
          <Finding data-clean={r.warns}>
            <div className="grow">
              <b>The target would take {find?.name ?? 'it'}.</b>
              <p>
                {r.warns > 0
                  ? `${plural(r.warns, 'warning')} below; nothing stops the delivery.`
                  : 'Every rule holds.'}
              </p>
            </div>
            <Button variant="contained" component={Link} to={`/p/${project}/delivery/${chain?.id}`}>
              Go to the delivery
            </Button>
          </Finding>
        )}
        {mendable > 1 && (
          <Finding data-mendable={mendable}>
            <div className="grow">
              <b>{plural(mendable, 'finding has', 'findings have')} steps that mend them.</b>
              <p>
                All at once, in an order in which none undoes another; one undo takes them back. What only you
                can decide stays open.
              </p>
            </div>
            <Button variant="contained" disabled={busy} onClick={all}>
              Mend all
            </Button>
          </Finding>
        )}
        {said && (
          <Finding data-mended={said.added} role="status">
            <div className="grow">
              <b>
                {said.added === 0
                  ? 'No step mends what is left.'
                  : `${plural(said.added, 'step was', 'steps were')} added.`}
              </b>
              {said.deeds
                .filter((d) => d.evidence || d.failed)
                .map((d) => (
                  <small key={d.rule}>
                    {d.title}: {d.failed ? `taken out again, ${d.failed}` : d.evidence}
                  </small>
                ))}
            </div>
            <Button component={Link} to={`/p/${project}/chain/${chain?.id}`}>
              See the chain
            </Button>
          </Finding>
        )}
        {r?.findings.map((f) => (
          <One
            key={f.rule + f.title}
            f={f}
            lit={f.rule + f.title === shown}
            onShow={() => setShown(f.rule + f.title === shown ? '' : f.rule + f.title)}
            onMend={add}
            band={
              chain && f.since !== undefined ? `/p/${project}/chain/${chain.id}?band=${f.since}` : undefined
            }
          />
        ))}
      </Pane>
      <Pane>
        {r?.scene && (
          <View3D
            className="mid"
            tools={false}
            bones={r.stats?.bones}
            guide={{ chosen: lit ? keysOf(lit) : [], hide: false, morphs: {} }}
            panes={[
              {
                url: viewUrl(r.scene, true),
                nodes: r.stats?.nodes,
                title: 'As the target would show it',
                note:
                  r.stats && `${plural(r.stats.triangles, 'triangle')} · ${plural(r.stats.bones, 'bone')}`,
              },
            ]}
          />
        )}
        {missing.length > 0 && (
          <>
            <Head plain>
              <h2>Missing pictures</h2>
              <Tag tone="warn">{missing.length}</Tag>
            </Head>
            <Pictures list={missing} />
          </>
        )}
        {model && <MissingPictures key={model.scene} project={project} pictures={model.pictures} />}
        {r?.stats && (
          <Table size="small">
            <TableHead>
              <TableRow>
                <TableCell>What is delivered</TableCell>
                <TableCell align="right">Count</TableCell>
              </TableRow>
            </TableHead>
            <TableBody>
              {(
                [
                  ['Triangles', r.stats.triangles],
                  ['Vertices', r.stats.vertices],
                  ['Materials', r.stats.materials],
                  ['Bones', r.stats.bones],
                  ['Motions', r.stats.motions],
                ] as const
              ).map(([k, v]) => (
                <TableRow key={k}>
                  <TableCell>{k}</TableCell>
                  <TableCell align="right">{count(v)}</TableCell>
                </TableRow>
              ))}
              <TableRow>
                <TableCell>Pictures</TableCell>
                <TableCell align="right">
                  {r.stats.pictures - r.stats.missing} of {r.stats.pictures}
                </TableCell>
              </TableRow>
            </TableBody>
          </Table>
        )}
      </Pane>
    </Panes>
  )
}

/** One finding: what, where, why, from which band on, and what mends it. */
function One({
  f,
  lit,
  onShow,
  onMend,
  band,
}: {
  f: Found
  lit: boolean
  onShow: () => void
  onMend: (steps: S['ChainStep'][]) => void
  band?: string
}) {
  const there = keysOf(f).length
  return (
    <Finding data-rule={f.rule} data-severity={f.severity}>
      <div className="tg">
        <Tag tone={words[f.severity][0]}>{words[f.severity][1]}</Tag>
      </div>
      <div className="grow">
        <b>{f.title}</b>
        {f.where && <small>{f.where}</small>}
        {f.why && <p>{f.why}</p>}
        {f.evidence && <p>Because {f.evidence}.</p>}
        {f.severity !== 'holds' && (band || there > 0) && (
          <small>
            {band && (
              <>
                since <Link to={band}>{f.since === 0 ? 'the asset as found' : f.sinceTitle}</Link>
              </>
            )}
            {band && there > 0 && ' · '}
            {there > 0 && (
              <TextButton aria-pressed={lit} onClick={onShow} data-show={f.rule}>
                {lit ? 'Show everything' : `Show ${there === 1 ? 'it' : 'them'} in the model`}
              </TextButton>
            )}
          </small>
        )}
        {f.ask && (
          <>
            <p>{f.ask.text}</p>
            {f.ask.answers.map((a) => (
              <Button
                key={a.text}
                size="small"
                data-answer
                onClick={() => onMend(a.mends)}
                sx={{ mr: 1, mt: 0.5 }}
              >
                {a.text}
              </Button>
            ))}
          </>
        )}
      </div>
      {f.mends && !f.ask && (
        <Button
          variant={f.severity === 'stops' ? 'contained' : 'outlined'}
          onClick={() => onMend(f.mends!)}
          data-mend
        >
          {f.mendText}
        </Button>
      )}
    </Finding>
  )
}
