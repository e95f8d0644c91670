import { Button, MenuItem, Select } from '@mui/material'

import { Link } from 'react-router'
import { putSteps, setTarget, useRehearsal, useTargets } from '../api/chains'
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
import { Panes } from '../parts/Panes'
import { Finding } from '../parts/Finding'

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
  const { act, fault } = useAct(project)
  if (chains?.length === 0)
    return (
      <Empty>
        <b>Nothing to rehearse yet</b>Start a chain for an asset in{' '}
        <Link to={`/p/${project}/finds`}>Finds</Link>.
      </Empty>
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
    <Panes
      id="rehearsal"
      widths={[{ of: 250, least: 190 }, 'rest', { of: 372, least: 260 }]}
      labels={['the target sheet', 'findings', 'the asset']}
    >
      <Pane>
        <Head>
          <h2>Target sheet</h2>
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
        {r && !r.ready && !r.error && <Empty>The chain is being computed; the rehearsal follows.</Empty>}
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
        {r?.findings.map((f, i) => (
          <Finding key={i} data-rule={f.rule} data-severity={f.severity}>
            <div className="tg">
              <Tag tone={words[f.severity][0]}>{words[f.severity][1]}</Tag>
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
          </Finding>
        ))}
      </Pane>
      <Pane>
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
