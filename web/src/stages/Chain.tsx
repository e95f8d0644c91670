import { Button, ToggleButton, ToggleButtonGroup } from '@mui/material'
import { useEffect, useState } from 'react'
import { Link } from 'react-router'
import { chainDocument, putSteps, redo, rerun, undo, useBands, useSteps } from '../api/chains'
import { useFind } from '../api/finds'
import { useAct, type S } from '../api/http'
import { thumb, useInventory, viewUrl } from '../api/scenes'
import { useAddress, useShow } from '../parts/address'
import { Fault, unmeasured } from '../parts/bits'
import { count, plural, metres, seconds } from '../parts/format'
import { SchemaForm } from '../parts/SchemaForm'
import { offerOf, View3D, type PaneInfo } from '../parts/View3D'
import { useChainAtWork } from '../parts/chainAtWork'
import { Table, TableHead, TableBody, TableRow, TableCell } from '@mui/material'
import { Body } from '../parts/Body'
import { Empty } from '../parts/Empty'
import { Form } from '../parts/Form'
import { Head } from '../parts/Head'
import { Mini } from '../parts/Mini'
import { Pane } from '../parts/Pane'
import { Row } from '../parts/Row'
import { Tag } from '../parts/Tag'
import { Text } from '../parts/Text'
import { Tools } from '../parts/Tools'
import { Panes } from '../parts/Panes'
import { AddStep } from './chain/AddStep'
import { PickFrom } from '../parts/PickForm'
import { ChainFrame } from './chain/Frame'

/** Edits of a chain: each is one revision that undo takes back. */
function useEdits(project: number, chain?: S['Chain']) {
  const { act, fault } = useAct(project)
  return {
    fault,
    put: (steps: S['ChainStep'][]) => chain && act(() => putSteps(chain, steps)),
    undo: () => chain && act(() => undo(chain.id)),
    redo: () => chain && act(() => redo(chain.id)),
    rerun: () => chain && act(() => rerun(chain.id)),
  }
}

export function Chain() {
  const { project, chain, chains, error } = useChainAtWork('chain')
  const { data: sample } = useBands(project, chain?.id)
  const { data: find } = useFind(project, chain?.find)
  const { data: kinds } = useSteps()
  const edit = useEdits(project, chain)
  const [params, set] = useAddress()
  const [adding, setAdding] = useState(false)
  const bands = sample?.bands ?? []
  const at = Math.min(params.has('band') ? Number(params.get('band')) : bands.length - 1, bands.length - 1)
  const withBand = params.has('with') ? Number(params.get('with')) : -1
  const bare = params.get('read') !== 'declared'
  const [show, setShow] = useShow()
  const shown = (i: number) => {
    for (let k = i; k >= 0; k--) if (bands[k]?.scene) return bands[k]
    return undefined
  } // an off band shows what lies below it
  const { data: inventory } = useInventory(shown(at)?.scene)
  const choose = (i: number, compare: boolean) =>
    compare
      ? set({ with: i === at ? undefined : String(i) })
      : set({ band: String(i), with: withBand === i ? undefined : (params.get('with') ?? undefined) })

  useEffect(() => {
    const key = (e: KeyboardEvent) => {
      if (
        e.ctrlKey ||
        e.metaKey ||
        e.altKey ||
        (e.target as HTMLElement).closest('input, textarea, [role="combobox"], [role="dialog"]')
      )
        return
      if (e.key === ',') choose(Math.max(0, at - 1), false)
      if (e.key === '.') choose(Math.min(bands.length - 1, at + 1), false)
      if (e.key === '\\') set({ with: withBand >= 0 ? undefined : String(Math.max(0, at - 1)) })
    }
    window.addEventListener('keydown', key)
    return () => window.removeEventListener('keydown', key)
  })
  if (chains?.length === 0)
    return (
      <Empty>
        <b>No chain yet</b>Choose an asset in <Link to={`/p/${project}/finds`}>Finds</Link> and start a chain
        for it.
      </Empty>
    )
  const band = bands[at],
    motion = Number(params.get('motion') ?? 0)
  const pane = (i: number, mark: string): PaneInfo | undefined => {
    const b = shown(i)
    if (!b?.scene) return undefined
    const tall = b.stats ? height(b, bare) : ''
    return {
      url: viewUrl(b.scene, bare),
      nodes: b.stats?.nodes,
      title: `${mark}${bands[i].title}`,
      note: tall,
      basis: bare ? undefined : b.basis,
      axes: b.basis && (
        <>
          {b.basis.text.split(', ').slice(0, 2).join(' · ')}
          <br />
          {b.basis.text.split(', ').slice(2).join(' · ')}
        </>
      ),
    }
  }
  const two = withBand >= 0 && withBand !== at && bands[withBand]
  const panes = [pane(at, two ? 'A · ' : ''), ...(two ? [pane(withBand, 'B · ')] : [])].filter(
    (p): p is PaneInfo => !!p,
  )
  const steps = chain?.steps ?? []
  const i = at - 1 // index of the chosen band's step
  const replace = (s: S['ChainStep']) => edit.put(steps.map((x, k) => (k === i ? s : x)))
  const move = (by: number) => {
    const s = [...steps]
    s.splice(i + by, 0, ...s.splice(i, 1))
    set({ band: String(at + by) })
    edit.put(s)
  }
  const addStep = (name: string) => {
    setAdding(false)
    const s = [...steps]
    s.splice(at, 0, { step: name })
    set({ band: String(at + 1), with: undefined })
    edit.put(s)
  }
  const kind = kinds?.find((k) => k.name === band?.step?.step)
  const motions = find?.model?.motions ?? []
  const waiting = bands.some((b) => b.state === 'waiting')
  return (
    <ChainFrame>
      <Panes
        id="chain"
        widths={[{ of: 316, least: 230 }, 'rest', { of: 300, least: 240 }]}
        labels={['the core sample', 'the model', 'the step']}
      >
        <Pane column>
          <Head>
            <h2 title={chain?.name}>{chain?.name}</h2>
            <Row as="span">
              <Mini disabled={!chain?.canUndo} onClick={() => edit.undo()}>
                Undo
              </Mini>
              <Mini disabled={!chain?.canRedo} onClick={() => edit.redo()}>
                Redo
              </Mini>
            </Row>
          </Head>
          <Fault error={error ?? edit.fault} />
          <div className="core" role="listbox" aria-label="Core sample">
            {[...bands].reverse().map((b) => (
              <button
                key={b.index}
                role="option"
                aria-selected={b.index === at}
                className={`band ${b.state} ${b.index === at ? 'on' : ''} ${two && b.index === withBand ? 'cmp' : ''}`}
                data-band={b.index}
                data-state={b.state}
                data-key={b.key}
                data-title={b.title}
                onClick={(e) => choose(b.index, e.shiftKey)}
                title="Click to see this state; with Shift to compare it"
              >
                <span className={`hatch ${b.family}`} />
                <span className="t">
                  {shown(b.index)?.scene && (
                    <img className="thumb" src={thumb(shown(b.index)!.scene!, bare)} alt="" />
                  )}
                </span>
                <span className="w">
                  <Text as="b" clip>
                    {b.index > 0 && `${b.index} `}
                    {b.title}
                  </Text>
                  {b.state === 'off' ? (
                    <small>switched off</small>
                  ) : b.state === 'failed' ? (
                    <Text as="small" tone="bad" clip title={b.error}>
                      {b.error}
                    </Text>
                  ) : b.state === 'waiting' ? (
                    <small>{sample?.running ? 'being computed…' : 'not computed'}</small>
                  ) : (
                    <>
                      {changes(b, bands)
                        .slice(0, 2)
                        .map((l) => (
                          <Text as="small" clip key={l}>
                            {l}
                          </Text>
                        ))}
                      {b.losses.map((l) => (
                        <Text as="small" tone="warn" clip key={l} title={l}>
                          {l}
                        </Text>
                      ))}
                    </>
                  )}
                </span>
                {two && (b.index === at || b.index === withBand) && (
                  <span className="k">{b.index === at ? 'A' : 'B'}</span>
                )}
              </button>
            ))}
          </div>
          <Tools style={{ borderTop: '1px solid var(--line)', borderBottom: 0 }}>
            <Button variant="contained" onClick={() => setAdding(true)} disabled={!chain}>
              Add step
            </Button>
            {waiting && !sample?.running && !bands.some((b) => b.state === 'failed') && (
              <Button onClick={() => edit.rerun()}>Run</Button>
            )}
            <Button href={chain && chainDocument(chain.id)} component="a">
              Save chain
            </Button>
            {adding && <AddStep kinds={kinds ?? []} onAdd={addStep} onClose={() => setAdding(false)} />}
          </Tools>
        </Pane>
        <div style={{ position: 'relative', minHeight: 0, display: 'grid' }}>
          <View3D
            panes={panes}
            motions={motions}
            bones={shown(at)?.stats?.bones ?? 0}
            show={show}
            onShow={setShow}
            offer={offerOf(inventory)}
            motion={motion}
            onMotion={(n) => set({ motion: n || '' })}
          />
          <div style={{ position: 'absolute', right: 14, top: 104 }}>
            <ToggleButtonGroup
              size="small"
              exclusive
              value={bare ? 'target' : 'declared'}
              onChange={(_, v: string | null) => v && set({ read: v === 'target' ? undefined : v })}
              aria-label="How the numbers are read"
              orientation="vertical"
            >
              <ToggleButton value="target">As the target reads it</ToggleButton>
              <ToggleButton value="declared">As declared</ToggleButton>
            </ToggleButtonGroup>
          </div>
        </div>
        <Pane data-evidence={band?.title}>
          {band && (
            <>
              <Head>
                <h2>{band.title}</h2>
                <Tag>{band.index ? `step ${band.index}` : 'find'}</Tag>
              </Head>
              {band.error && <Fault error={{ message: band.error }} />}
              {band.step && (
                <Form>
                  {kind && (
                    <Text as="div" tone="soft" small>
                      {kind.purpose}
                    </Text>
                  )}
                  {kind && (
                    <PickFrom.Provider value={shown(at - 1)?.scene}>
                      <SchemaForm
                        key={band.index + (band.step.step ?? '')}
                        schema={kind.schema}
                        order={kind.order}
                        value={band.step.with ?? {}}
                        onChange={(v) => replace({ ...band.step!, with: v })}
                      />
                    </PickFrom.Provider>
                  )}
                  <Row wrap style={{ marginTop: 12 }}>
                    <Button onClick={() => replace({ ...band.step!, off: band.state !== 'off' })}>
                      {band.state === 'off' ? 'Switch on' : 'Switch off'}
                    </Button>
                    <Button disabled={i <= 0} onClick={() => move(-1)} aria-label="Move down">
                      Down
                    </Button>
                    <Button disabled={i >= steps.length - 1} onClick={() => move(1)} aria-label="Move up">
                      Up
                    </Button>
                    <Button
                      onClick={() => {
                        set({ band: String(at - 1), with: undefined })
                        edit.put(steps.filter((_, k) => k !== i))
                      }}
                    >
                      Remove
                    </Button>
                  </Row>
                </Form>
              )}
              <Head plain>
                <h2>What changed</h2>
                <Text tone="soft" small>
                  {band.seconds !== undefined && seconds(band.seconds)}
                </Text>
              </Head>
              <Changed band={band} before={shown(at - 1)} />
              {(band.lines.length > 0 || band.losses.length > 0) && (
                <>
                  <Head plain>
                    <h2>Why it looks so</h2>
                  </Head>
                  {band.lines.map((l) => (
                    <Body key={l}>
                      <Tag>{band.idle ? 'idle' : 'note'}</Tag> {l}
                    </Body>
                  ))}
                  {band.losses.map((l) => (
                    <Body key={l}>
                      <Tag tone="warn">lost</Tag> {l}
                    </Body>
                  ))}
                </>
              )}
            </>
          )}
        </Pane>
      </Panes>
    </ChainFrame>
  )
}

/** How tall the asset is, as the view reads it. */
function height(b: S['Band'], bare: boolean): string {
  if (!b.stats) return ''
  if (!bare) return b.stats.height != null ? `${metres(b.stats.height)} tall` : unmeasured(b.stats)
  const tall = b.stats.max[1] - b.stats.min[1]
  const low = b.stats.min[1]
  return `${metres(tall)} tall${Math.abs(low) < 0.0015 ? ', on the ground' : ''}`
}

const figures: [keyof S['Stats'], string][] = [
  ['triangles', 'triangles'],
  ['vertices', 'vertices'],
  ['parts', 'parts'],
  ['nodes', 'nodes'],
  ['bones', 'bones'],
  ['materials', 'materials'],
  ['pictures', 'pictures'],
  ['cameras', 'cameras'],
  ['lights', 'lights'],
  ['helpers', 'helpers'],
  ['motions', 'motions'],
]

/** The two lines of a band that say most. */
function changes(b: S['Band'], bands: S['Band'][]): string[] {
  if (b.index === 0)
    return [
      ...b.lines,
      b.stats
        ? `${plural(b.stats.triangles, 'triangle')}${b.stats.height != null ? ` · ${metres(b.stats.height)}` : ''}`
        : '',
    ]
  let below: S['Band'] | undefined
  for (let k = b.index - 1; k >= 0 && !below; k--)
    if (bands[k].stats && bands[k].state === 'ready') below = bands[k]
  const diff =
    below?.stats && b.stats
      ? figures
          .filter(([k]) => below.stats![k] !== b.stats![k])
          .map(([k, n]) => `${n} ${count(below.stats![k] as number)} → ${count(b.stats![k] as number)}`)
      : []
  return [...b.lines, ...diff.filter((d) => !b.lines.some((l) => l.startsWith(d.split(' ')[0])))]
}

function Changed({ band, before }: { band: S['Band']; before?: S['Band'] }) {
  if (!band.stats)
    return (
      <Body className="soft">
        {band.state === 'off'
          ? 'The step is switched off; the state is that of the band below.'
          : 'Not computed yet.'}
      </Body>
    )
  const a = band.index > 0 ? before?.stats : undefined
  const size = (s?: S['Stats']) => (s?.height != null ? metres(s.height) : '–')
  return (
    <Table size="small">
      <TableHead>
        <TableRow>
          <TableCell />
          {a && <TableCell align="right">before</TableCell>}
          <TableCell align="right">{a ? 'after' : ''}</TableCell>
        </TableRow>
      </TableHead>
      <TableBody>
        {figures
          .filter(([k]) => k !== 'lights' || band.stats!.lights > 0 || (a?.lights ?? 0) > 0)
          .map(([k, name]) => {
            const changed = a && a[k] !== band.stats![k]
            return (
              <TableRow key={k} data-figure={name}>
                <TableCell>{name[0].toUpperCase() + name.slice(1)}</TableCell>
                {a && <TableCell align="right">{count(a[k] as number)}</TableCell>}
                <TableCell align="right" className={changed ? 'ok' : undefined}>
                  {count(band.stats![k] as number)}
                </TableCell>
              </TableRow>
            )
          })}
        <TableRow>
          <TableCell>Height</TableCell>
          {a && <TableCell align="right">{size(a)}</TableCell>}
          <TableCell align="right">{size(band.stats)}</TableCell>
        </TableRow>
        <TableRow data-figure="basis">
          <TableCell>Basis</TableCell>
          <TableCell align="right" colSpan={a ? 2 : 1} style={{ whiteSpace: 'normal' }}>
            {band.basis?.text}
          </TableCell>
        </TableRow>
      </TableBody>
    </Table>
  )
}
