import { Button, Menu, MenuItem, ToggleButton, ToggleButtonGroup } from '@mui/material'
import { useEffect, useRef, useState } from 'react'
import { Link } from 'react-router'
import { chainDocument, putSteps, redo, rerun, undo, useBands, useSteps } from '../api/chains'
import { useFind } from '../api/finds'
import { useAct, type S } from '../api/http'
import { blocksFile, thumb, useInventory, useStepTrial, viewUrl } from '../api/scenes'
import { useAddress, useShow } from '../parts/address'
import { Fault } from '../parts/bits'
import { count, plural, seconds } from '../parts/format'
import { SchemaForm } from '../parts/SchemaForm'
import { offerOf, View3D, type PaneInfo } from '../parts/View3D'
import { useChainAtWork } from '../parts/chainAtWork'
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
import { PickFrom } from '../parts/PickForm'
import { AddStep } from './chain/AddStep'
import { Changed, height } from './chain/Changed'
import { lit } from './chain/choice'
import { Core } from './chain/Core'
import { Desk, type DeskRow } from './chain/Desk'
import { ChainFrame } from './chain/Frame'
import { GroupField } from './chain/GroupField'
import { MotionStrip } from './chain/MotionStrip'
import { NewChain, type Origin } from './chain/NewChain'
import { Tray } from './chain/Tray'
import { Skeleton } from './finds/Skeleton'

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

/** Puts a step into a list. Between two steps of a group it becomes one of them. */
function insert(list: S['ChainStep'][], k: number, step: S['ChainStep']) {
  const group = list[k - 1]?.group
  list.splice(k, 0, group && group === list[k]?.group ? { ...step, group } : step)
}

export function Chain() {
  const { project, chain, chains, error } = useChainAtWork('chain')
  const { data: sample } = useBands(project, chain?.id)
  const { data: find } = useFind(project, chain?.find)
  const { data: kinds } = useSteps()
  const edit = useEdits(project, chain)
  const [params, set] = useAddress()
  const [adding, setAdding] = useState(false)
  const [acting, setActing] = useState<S['Proposal']>()
  const [tried, setTried] = useState<S['ChainStep']>()
  const [desk, setDesk] = useState(false)
  const [menu, setMenu] = useState<HTMLElement | null>(null)
  const [origin, setOrigin] = useState<Origin>()
  const file = useRef<HTMLInputElement>(null)
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
  const trial = useStepTrial(project, shown(at), tried)
  const triedKind = kinds?.find((k) => k.name === tried?.step)
  const chosen = (params.get('chosen') ?? '').split(' ').filter(Boolean)
  const open = params.get('tray') === '1'
  const bonesOpen = params.get('tray') === 'bones'
  const stripOpen = params.get('tray') === 'motion'
  const [time, setTime] = useState(0)
  const [seek, setSeek] = useState<{ time: number }>()
  const folded = (params.get('folded') ?? '').split(' ').filter(Boolean).map(Number)
  const alone = params.get('alone') === '1'
  // What was chosen by number in one band is something else in the next.
  const letGo = { chosen: undefined, alone: undefined }
  const choose = (i: number, compare: boolean) =>
    compare
      ? set({ with: i === at ? undefined : String(i) })
      : set({
          band: String(i),
          with: withBand === i ? undefined : (params.get('with') ?? undefined),
          ...(shown(i)?.scene === shown(at)?.scene ? {} : letGo),
        })

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
      if (e.key === '\\') {
        const now = new URLSearchParams(window.location.search).has('with') // not what was drawn last
        set({ with: now ? undefined : String(Math.max(0, at - 1)) })
      }
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
      unitless: !b.basis?.metresPerUnit,
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
  const result = tried && trial.data?.scene ? trial.data : undefined
  const onTrial: PaneInfo | undefined = result && {
    url: viewUrl(result.scene!, bare),
    nodes: result.stats?.nodes,
    title: `On trial: ${triedKind?.title}`,
    basis: bare ? undefined : result.basis,
  }
  const panes = [pane(at, two ? 'A · ' : ''), onTrial ?? (two ? pane(withBand, 'B · ') : undefined)].filter(
    (p): p is PaneInfo => !!p,
  )
  const steps = chain?.steps ?? []
  // A step made voxels, and none has ended them since.
  const last = (names: string[]) => steps.slice(0, at).findLastIndex((s) => !s.off && names.includes(s.step))
  const voxels = last(['voxelise']) >= 0 && last(['voxelise']) > last(['surfaces'])
  const i = at - 1 // index of the chosen band's step
  const replace = (s: S['ChainStep']) => edit.put(steps.map((x, k) => (k === i ? s : x)))
  const keep = () => {
    if (!tried) return
    const s = [...steps]
    insert(s, at, tried)
    setTried(undefined)
    set({ band: String(at + 1), with: undefined, ...letGo })
    edit.put(s)
  }
  const move = (by: number) => {
    const s = [...steps]
    s.splice(i + by, 0, ...s.splice(i, 1))
    set({ band: String(at + by) })
    edit.put(s)
  }
  const addStep = (name: string) => {
    setAdding(false)
    const s = [...steps]
    insert(s, at, { step: name })
    set({ band: String(at + 1), with: undefined, ...letGo })
    edit.put(s)
  }
  const kind = kinds?.find((k) => k.name === band?.step?.step)
  // The desk works on the chosen step where that is a table, else on one that is tried.
  const atTable = !tried && band?.step?.step === 'materials'
  const openDesk = () => {
    if (!tried && !atTable) setTried({ step: 'materials', with: { table: [] } })
    setDesk(true)
  }
  const tableOf = (s?: S['ChainStep']) => (s?.with?.table ?? []) as DeskRow[]
  // Those of the band, which steps may have changed.
  const motions = inventory?.motions ?? find?.model?.motions ?? []
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
              <Mini disabled={!chain} onClick={(e) => setMenu(e.currentTarget)} aria-haspopup="menu">
                More
              </Mini>
            </Row>
          </Head>
          <Fault error={error ?? edit.fault} />
          <Core
            bands={bands}
            at={at}
            other={two ? withBand : undefined}
            running={!!sample?.running}
            thumbOf={(i) => {
              const digest = shown(i)?.scene
              return digest && thumb(digest, bare)
            }}
            trial={
              tried && {
                after: at,
                title: triedKind?.title ?? tried.step,
                report: trial.data,
                busy: trial.isFetching,
              }
            }
            folded={folded}
            onFold={(first) => {
              const list = folded.includes(first) ? folded.filter((f) => f !== first) : [...folded, first]
              set({ folded: list.join(' ') || undefined })
            }}
            onChoose={choose}
            onMove={(from, to) => {
              const list = [...steps]
              const [step] = list.splice(from - 1, 1)
              insert(list, to - 1, step)
              set({ band: String(to), with: undefined })
              edit.put(list)
            }}
          />
          <Tools foot>
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
            {acting && (
              <AddStep
                kinds={kinds ?? []}
                on={acting}
                onAdd={(name) => {
                  setActing(undefined)
                  setTried({ step: name, with: { where: acting.where } })
                }}
                onClose={() => setActing(undefined)}
              />
            )}
            <Menu anchorEl={menu} open={!!menu} onClose={() => setMenu(null)}>
              <MenuItem
                onClick={() => {
                  setMenu(null)
                  setOrigin({
                    title: 'Copy the chain',
                    name: `${chain!.name} copy`,
                    about: `All ${count(steps.length)} steps of ${chain!.name}, for this asset or another.`,
                    chain: chain!.id,
                  })
                }}
              >
                Copy, also for another asset…
              </MenuItem>
              <MenuItem
                onClick={() => {
                  setMenu(null)
                  setOrigin({
                    title: 'Branch from this band',
                    name: `${chain!.name} branch`,
                    about: `The steps up to ${band?.title}.`,
                    chain: chain!.id,
                    steps: at,
                  })
                }}
              >
                Branch from this band…
              </MenuItem>
              <MenuItem
                onClick={() => {
                  setMenu(null)
                  file.current?.click()
                }}
              >
                Open a chain’s document…
              </MenuItem>
              {shown(at)?.scene && (
                <MenuItem
                  component={Link}
                  to={`/p/${project}/paper?scene=${shown(at)!.scene}`}
                  onClick={() => setMenu(null)}
                >
                  This band on paper
                </MenuItem>
              )}
              {shown(at)?.scene &&
                voxels &&
                (['pdf', 'txt', 'json'] as const).map((f) => (
                  <MenuItem
                    key={f}
                    component="a"
                    href={blocksFile(shown(at)!.scene!, f)}
                    onClick={() => setMenu(null)}
                  >
                    {
                      {
                        pdf: 'Plans of its layers (PDF)',
                        txt: 'Its blocks as text',
                        json: 'Its blocks as JSON',
                      }[f]
                    }
                  </MenuItem>
                ))}
              {chain && (chains ?? []).filter((c) => c.name === chain.name).length > 1 && (
                <MenuItem
                  component={Link}
                  to={`/p/${project}/over?name=${encodeURIComponent(chain.name)}`}
                  onClick={() => setMenu(null)}
                >
                  Over all of its assets
                </MenuItem>
              )}
            </Menu>
            <input
              ref={file}
              type="file"
              accept=".yaml,.yml"
              hidden
              aria-label="Chain document"
              onChange={(e) => {
                const f = e.target.files?.[0]
                e.target.value = ''
                void f?.text().then((document) =>
                  setOrigin({
                    title: 'Open a chain',
                    name: f.name.replace(/\.ya?ml$/, ''),
                    about: `The steps in ${f.name}.`,
                    document,
                  }),
                )
              }}
            />
            {origin && chain && (
              <NewChain
                project={project}
                find={chain.find}
                origin={origin}
                onClose={() => setOrigin(undefined)}
              />
            )}
          </Tools>
        </Pane>
        <div className="middle">
          <div className="stage">
            <View3D
              panes={panes}
              guide={{ chosen: lit(inventory, chosen), hide: alone, morphs: {} }}
              onPick={(i, hit) => {
                if (i > 0 || !hit) return
                // First the node, then the part of it that was hit, then nothing.
                const node = `n${hit.node}`,
                  part = `p${hit.mesh}.${hit.primitive}`
                const now = chosen.length === 1 ? chosen[0] : ''
                set({ tray: '1', chosen: now === node ? part : now === part ? undefined : node })
              }}
              onBox={(i, hits) => {
                if (i > 0) return
                const keys = [...new Set(hits.map((h) => `n${h.node}`))]
                set({ tray: '1', chosen: keys.join(' ') || undefined })
              }}
              motions={motions}
              bones={shown(at)?.stats?.bones ?? 0}
              show={show}
              onShow={setShow}
              offer={offerOf(inventory)}
              motion={motion}
              onMotion={(n) => set({ motion: n || '' })}
              seek={seek}
              onTime={stripOpen ? setTime : undefined}
            />
            <div className="reading">
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
          <div className="drawer">
            <Mini
              aria-expanded={open}
              onClick={() => set({ tray: open ? undefined : '1' })}
              disabled={!inventory}
            >
              {open ? 'Close the inventory' : 'Inventory'}
            </Mini>
            {motions.length > 0 && (
              <Mini aria-expanded={stripOpen} onClick={() => set({ tray: stripOpen ? undefined : 'motion' })}>
                {stripOpen ? 'Close the motion' : 'Motion'}
              </Mini>
            )}
            {(shown(at)?.stats?.bones ?? 0) > 0 && (
              <Mini aria-expanded={bonesOpen} onClick={() => set({ tray: bonesOpen ? undefined : 'bones' })}>
                {bonesOpen ? 'Close the bones' : 'Bones'}
              </Mini>
            )}
            {inventory && (
              <Text tone="soft" small clip>
                {plural(inventory.nodes.length, 'node')} · {plural(inventory.materials.length, 'material')}
              </Text>
            )}
            <span className="grow" />
            {inventory && inventory.materials.length > 0 && (
              <Mini onClick={openDesk} disabled={!!tried && tried.step !== 'materials'}>
                Materials desk
              </Mini>
            )}
            {chosen.length > 0 && (
              <>
                <Mini aria-pressed={alone} onClick={() => set({ alone: alone ? undefined : '1' })}>
                  {alone ? 'Show all' : 'Only these'}
                </Mini>
                <Mini onClick={() => set(letGo)}>Choose nothing</Mini>
              </>
            )}
          </div>
          {open && inventory && shown(at)?.scene && (
            <Tray
              key={shown(at)!.scene}
              digest={shown(at)!.scene!}
              inventory={inventory}
              chosen={chosen}
              onChoose={(keys) => set({ chosen: keys.join(' ') || undefined })}
              onAct={setActing}
            />
          )}
          {stripOpen && motions.length > 0 && shown(at)?.scene && (
            <MotionStrip
              key={`${shown(at)!.scene} ${motion}`}
              digest={shown(at)!.scene!}
              motion={Math.min(motion, motions.length - 1)}
              time={time}
              onTime={(t) => {
                setTime(t)
                setSeek({ time: t })
              }}
              onStep={setTried}
            />
          )}
          {bonesOpen && chain && shown(at)?.scene && (
            <div className="bonetray">
              <Skeleton
                key={shown(at)!.scene}
                project={project}
                find={chain.find}
                digest={shown(at)!.scene!}
                show={show}
                onShow={setShow}
                reference={Number(params.get('fit')) || undefined}
                onFit={(from) => setTried({ step: 'fit-skeleton', with: { from } })}
                put={set}
              />
            </div>
          )}
          {open && !inventory && <div className="trayless" />}
        </div>
        <Pane data-evidence={tried ? 'trial' : band?.title}>
          {tried && triedKind && (
            <>
              <Head>
                <h2>{triedKind.title}</h2>
                <Tag>on trial</Tag>
              </Head>
              <Form>
                <Text as="div" tone="soft" small>
                  {triedKind.purpose}
                </Text>
                <Row wrap className="acts">
                  <Button variant="contained" onClick={keep} disabled={!result}>
                    Keep it
                  </Button>
                  <Button onClick={() => setTried(undefined)}>Let it go</Button>
                </Row>
                <Fault
                  error={trial.error ?? (trial.data?.error ? { message: trial.data.error } : undefined)}
                />
                {trial.data?.lines.map((l) => (
                  <Body key={l}>
                    <Tag>{trial.data.idle ? 'idle' : 'note'}</Tag> {l}
                  </Body>
                ))}
                {trial.data?.losses.map((l) => (
                  <Body key={l}>
                    <Tag tone="warn">lost</Tag> {l}
                  </Body>
                ))}
                <PickFrom.Provider value={shown(at)?.scene}>
                  <SchemaForm
                    key={tried.step}
                    schema={triedKind.schema}
                    order={triedKind.order}
                    value={tried.with ?? {}}
                    onChange={(v) => setTried({ ...tried, with: v })}
                  />
                </PickFrom.Provider>
              </Form>
            </>
          )}
          {band && !tried && (
            <>
              <Head>
                <h2>{band.title}</h2>
                <Tag>{band.index ? `step ${band.index}` : 'find'}</Tag>
              </Head>
              {band.error && <Fault error={{ message: band.error }} />}
              {band.spoiled && (
                <Body data-spoiled={band.spoiled.after}>
                  <Tag tone="warn">order</Tag> It belongs behind step {band.spoiled.after},{' '}
                  {bands[band.spoiled.after]?.title}: {band.spoiled.why}.{' '}
                  <Mini onClick={() => move(band.spoiled!.after - at)}>Move it there</Mini>
                </Body>
              )}
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
                  <GroupField
                    key={`group ${at}`}
                    value={band.step.group ?? ''}
                    names={[...new Set(steps.map((s) => s.group ?? '').filter(Boolean))]}
                    onChange={(group) => replace({ ...band.step!, group: group || undefined })}
                  />
                  <Row wrap className="acts">
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
      {desk && shown(at)?.scene && (atTable || tried?.step === 'materials') && (
        <Desk
          project={project}
          digest={(atTable ? undefined : trial.data?.scene) ?? shown(at)!.scene!}
          table={tableOf(atTable ? band?.step : tried)}
          lines={(atTable ? band?.lines : trial.data?.error ? [trial.data.error] : trial.data?.lines) ?? []}
          busy={atTable ? waiting : trial.isFetching}
          onChange={(table) => {
            if (band?.step && atTable) replace({ ...band.step, with: { table } })
            else if (tried) setTried({ ...tried, with: { table } })
          }}
          onClose={() => {
            setDesk(false)
            if (!atTable && tableOf(tried).length === 0) setTried(undefined)
          }}
        />
      )}
    </ChainFrame>
  )
}
