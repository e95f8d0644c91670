import { Button, ToggleButton, ToggleButtonGroup } from '@mui/material'
import { useMemo } from 'react'
import { Link, useNavigate, useParams } from 'react-router'
import { makeChain, useChains } from '../api/chains'
import { decode, readAs, removeFind, useFind } from '../api/finds'
import { useAct, type S } from '../api/http'
import { useComparison, useInventory, viewUrl } from '../api/scenes'
import { useSources } from '../api/sources'
import { useAddress, useShow } from '../parts/address'
import { Bind } from '../parts/Bind'
import { Fault, Figures, Pictures, unmeasured } from '../parts/bits'
import { count, metres, named, plural } from '../parts/format'
import type { Hit } from '../parts/Model3D'
import { MissingPictures } from '../parts/MissingPictures'
import { Readings } from '../parts/Readings'
import { SaveAs } from '../parts/SaveAs'
import { offerOf, View3D, type PaneInfo } from '../parts/View3D'
import { useProjectId } from '../parts/project'
import { BasisOf } from './finds/Basis'
import { Compare, PictureDifference, useOthers } from './finds/Compare'
import { Desk, Large } from './finds/Desk'
import { Inventory, keyOf, sections, TurnBone } from './finds/Inventory'
import { Skeleton } from './finds/Skeleton'
import { FindList } from './finds/FindList'
import { Body } from '../parts/Body'
import { FactGrid } from '../parts/Facts'
import { Head } from '../parts/Head'
import { Item } from '../parts/Item'
import { Mini } from '../parts/Mini'
import { Pane } from '../parts/Pane'
import { Scroll } from '../parts/Scroll'
import { Tag } from '../parts/Tag'
import { Text } from '../parts/Text'
import { TextButton } from '../parts/TextButton'
import { Tools } from '../parts/Tools'
import { Panes } from '../parts/Panes'
import { FindsFrame } from './finds/Frame'
import { ViewFrame } from '../parts/ViewFrame'
import { useStateOf } from '../parts/hooks'
import { Fold } from '../parts/Fold'
import { Tone } from '../parts/Tone'

const tabs = [
  ['overview', 'Overview'],
  ['inventory', 'Inventory'],
  ['skeleton', 'Bones'],
  ['pictures', 'Pictures'],
  ['basis', 'Basis'],
  ['compare', 'Compare'],
] as const

/** Morph targets in the address: mesh.index and a hundredth each. */
const readMorphs = (t: string | null): Record<string, number> =>
  Object.fromEntries(
    (t ?? '')
      .split(' ')
      .map((x) => x.split(':'))
      .filter(([k, v]) => /^\d+\.\d+$/.test(k) && Number(v) >= 0)
      .map(([k, v]) => [k, Number(v) / 100]),
  )
const writeMorphs = (m: Record<string, number>) =>
  Object.entries(m)
    .map(([k, v]) => `${k}:${Math.round(v * 100)}`)
    .join(' ')

export function Finds() {
  const project = useProjectId()
  const chosen = Number(useParams().find ?? 0)
  const { data: f, error } = useFind(project, chosen)
  const [params, put] = useAddress()
  const [show, setShow] = useShow()

  const m = f?.model
  const [hit, setHit] = useStateOf<{ pane: number; hit: Hit } | undefined>(m?.scene, undefined)
  const { data: inventory } = useInventory(m?.scene)
  const tab = params.get('tab') ?? 'overview'
  const keys = useMemo(() => (params.get('chosen') ?? '').split(' ').filter(Boolean), [params])
  const morphText = params.get('morphs')
  const morphs = useMemo(() => readMorphs(morphText), [morphText])
  const pic = Number(params.get('pic') ?? -1),
    motion = Number(params.get('motion') ?? 0),
    diff = Number(params.get('diff') ?? -1)
  const others = useOthers(project, chosen, tab === 'compare' || params.has('with'))
  const other = tab === 'compare' ? others.find((o) => o.key === params.get('with')) : undefined
  const tolerance = Number(params.get('tol')) || undefined,
    far = params.get('far') === '1'
  const { data: comparison } = useComparison(other && m?.scene, other?.scene, tolerance)

  // The bone whose weights are shown can be turned by hand.
  const bone =
    show.surface === 'weights'
      ? inventory?.skins.flatMap((s) => s.bones).find((b) => b.node === show.bone)
      : undefined
  const turned = (params.get('turn') ?? '').split(':').map(Number)
  const by: [number, number, number] =
    bone && turned.length === 4 && turned[0] === bone.node && turned.every((v) => Math.abs(v) < 1e6)
      ? [turned[1], turned[2], turned[3]]
      : [0, 0, 0]
  const list = useMemo(
    () =>
      inventory && m
        ? sections(inventory, m.pictures, show, setShow, put, morphs, (x) =>
            put({
              morphs: writeMorphs({
                ...readMorphs(new URLSearchParams(window.location.search).get('morphs')),
                ...x,
              }),
            }),
          )
        : [],
    // eslint-disable-next-line react-hooks/exhaustive-deps -- put and setShow are new each time and do the same
    [inventory, m, show.surface, show.set, show.bone, morphs],
  )
  const uv = params.get('uv')?.split('.').map(Number)
  const uvPart = uv && inventory?.meshes[uv[0]]?.parts[uv[1]]

  const panes: PaneInfo[] = []
  if (m && f) {
    const apart = (a: string, b: string) =>
      `/api/scenes/${a}/distances?with=${b}${comparison ? `&tolerance=${comparison.tolerance}` : ''}`
    panes.push({
      url: other && far && comparison ? apart(m.scene, other.scene) : viewUrl(m.scene),
      nodes: m.stats.nodes,
      title: `${other ? 'A · ' : ''}${f.name}`,
      note: `${m.stats.height != null ? `${metres(m.stats.height)} tall` : unmeasured(m.stats)} · ${plural(m.stats.triangles, 'triangle')}`,
      basis: m.basis,
      unitless: !m.basis.metresPerUnit,
      axes: (
        <>
          {m.basis.text.split(', ').slice(0, 2).join(' · ')}
          <br />
          {m.basis.text.split(', ').slice(2).join(' · ')}
        </>
      ),
      balls: inventory?.colliders,
    })
    if (other)
      panes.push({
        url: far && comparison ? apart(other.scene, m.scene) : viewUrl(other.scene),
        title: `B · ${other.name}`,
        note: other.group,
      })
  }
  return (
    <FindsFrame>
      <Panes
        id="finds"
        widths={[{ of: 244, least: 180 }, 'rest', { of: 384, least: 280 }]}
        labels={['the list of finds', 'the model', 'what is known of it']}
      >
        <Pane column>
          <FindList project={project} chosen={chosen} />
        </Pane>
        {m ? (
          <View3D
            panes={panes}
            motions={m.motions}
            bones={m.stats.bones}
            show={show}
            onShow={setShow}
            offer={offerOf(inventory)}
            guide={{
              chosen: other ? [] : keys,
              hide: params.get('alone') === '1',
              morphs,
              turn: bone && by.some((v) => v !== 0) ? [bone.node, ...by] : undefined,
            }}
            motion={motion}
            onMotion={(n) => put({ motion: n || '' })}
            onPick={(pane, h) => {
              setHit(h ? { pane, hit: h } : undefined)
              if (h && tab === 'inventory' && pane === 0) put({ chosen: keyOf(h) })
            }}
          >
            {hit && !other && inventory && (
              <Found
                hit={hit.hit}
                model={m}
                inventory={inventory}
                close={() => setHit(undefined)}
                put={put}
              />
            )}
            {tab === 'pictures' && pic >= 0 && m.pictures[pic] && !m.pictures[pic].missing && (
              <Large model={m} pic={pic} channels={params.get('channel') ?? 'all'} put={put} />
            )}
            {tab === 'inventory' && uv && uvPart?.uvs[uv[2]] && (
              <div className="overlay" data-uv={params.get('uv')}>
                <Head>
                  <h2>{uvPart.uvs[uv[2]].name || `UV set ${uv[2] + 1}`}</h2>
                  <TextButton onClick={() => put({ uv: '' })}>Back to the model</TextButton>
                </Head>
                <div className="uvdrawing">
                  <img
                    src={`/api/scenes/${m.scene}/uv?mesh=${uv[0]}&part=${uv[1]}&set=${uv[2]}`}
                    alt={`UV set ${uvPart.uvs[uv[2]].name} drawn over the texels`}
                  />
                </div>
                <Tools low className="soft small">
                  <span className="key verdi">edge</span>
                  <span className="key iron">
                    covered twice: {(uvPart.uvs[uv[2]].overlap * 100).toFixed(1)} %
                  </span>
                  <span className="key ochre">
                    outside the picture: {(uvPart.uvs[uv[2]].outside * 100).toFixed(1)} %
                  </span>
                </Tools>
              </div>
            )}
            {other && comparison?.pictures[diff] && (
              <PictureDifference a={m.scene} b={other.scene} row={comparison.pictures[diff]} put={put} />
            )}
          </View3D>
        ) : (
          <ViewFrame>
            <div className="veil">
              {f?.state === 'decoding'
                ? 'The model is being decoded…'
                : f?.state === 'stopped'
                  ? 'The model is not decoded.'
                  : ''}
            </div>
          </ViewFrame>
        )}
        <Pane column data-rail={f?.name}>
          <Head>
            <h2>{f?.name ?? 'Evidence'}</h2>
            {m && <Tag>{m.format}</Tag>}
          </Head>
          {m && (
            <ToggleButtonGroup
              exclusive
              className="sheets"
              value={tab}
              aria-label="What to look at"
              onChange={(_, v: string | null) => v && put({ tab: v === 'overview' ? '' : v })}
            >
              {tabs.map(([k, label]) => (
                <ToggleButton key={k} value={k}>
                  {label}
                </ToggleButton>
              ))}
            </ToggleButtonGroup>
          )}
          {f && m && tab === 'inventory' ? (
            <Inventory
              list={list}
              chosen={keys}
              hide={params.get('alone') === '1'}
              put={put}
              hit={hit?.hit}
              turn={bone && { node: bone.node, name: bone.name, by }}
            />
          ) : f && m && tab === 'skeleton' ? (
            <>
              {bone && <TurnBone turn={{ node: bone.node, name: bone.name, by }} put={put} />}
              <Skeleton
                project={project}
                find={f.id}
                digest={m.scene}
                show={show}
                onShow={setShow}
                reference={Number(params.get('fit')) || undefined}
                put={put}
              />
            </>
          ) : f && m && tab === 'pictures' ? (
            <Desk project={project} model={m} inventory={inventory} pic={pic} put={put} />
          ) : f && m && tab === 'basis' ? (
            <BasisOf key={`${f.id} ${m.basis.text}`} project={project} find={f.id} model={m} />
          ) : f && m && tab === 'compare' ? (
            <Compare
              model={m}
              others={others}
              other={other}
              tolerance={tolerance}
              far={far}
              picture={diff}
              put={put}
            />
          ) : (
            <Overview project={project} find={f} error={error} />
          )}
        </Pane>
      </Panes>
    </FindsFrame>
  )
}

/** What lies under the place that was clicked. */
function Found({
  hit,
  model,
  inventory,
  close,
  put,
}: {
  hit: Hit
  model: S['Model']
  inventory: S['Inventory']
  close: () => void
  put: ReturnType<typeof useAddress>[1]
}) {
  const mesh = inventory.meshes[hit.mesh],
    part = mesh?.parts.findIndex((p) => p.primitive === hit.primitive) ?? -1,
    material = inventory.materials[hit.material]
  const use = material?.textures.find((t) => t.role === 'colour'),
    p = use && model.pictures[use.picture]
  return (
    <div className="foundcard" data-hit={`${hit.mesh}.${hit.primitive}`}>
      <Mini onClick={close} aria-label="Close">
        ×
      </Mini>
      <FactGrid flush>
        {inventory.nodes[hit.node] && (
          <>
            <span>Node</span>
            <Text as="div" clip>
              {inventory.nodes[hit.node].name}
            </Text>
          </>
        )}
        <span>Mesh</span>
        <Text as="div" clip>
          {mesh?.name || `mesh ${hit.mesh + 1}`}
          {mesh && mesh.parts.length > 1 && `, part ${part + 1}`}
        </Text>
        <span>Material</span>
        <Text as="div" clip>
          {material ? material.name : 'none'}
        </Text>
        {use && p && (
          <>
            <span>Picture</span>
            <Text as="div" clip>
              {use.missing ? (
                <Text tone="warn">{p.name}, missing</Text>
              ) : (
                <TextButton onClick={() => put({ tab: 'pictures', pic: use.picture })}>{p.name}</TextButton>
              )}
            </Text>
          </>
        )}
        {hit.uv && p?.width && p.height && (
          <>
            <span>Texel</span>
            <Text as="div" mono data-texel-hit>
              {Math.min(p.width - 1, Math.floor(hit.uv[0] * p.width))},{' '}
              {Math.min(p.height - 1, Math.floor(hit.uv[1] * p.height))}
            </Text>
          </>
        )}
      </FactGrid>
      <TextButton onClick={() => put({ tab: 'inventory', chosen: keyOf(hit), pic: '', uv: '' })}>
        Show in the inventory
      </TextButton>
    </div>
  )
}

function Overview({ project, find: f, error }: { project: number; find?: S['Find']; error: unknown }) {
  const { data: chains } = useChains(project)
  const { data: sources } = useSources(project)
  const go = useNavigate()
  const m = f?.model
  const from = sources?.find((x) => x.label === f?.sourceLabel)
  const { act, fault } = useAct(project)
  const chain = () => {
    const there = chains?.find((c) => c.find === f!.id)
    const open = (c: S['Chain']) => void go(`/p/${project}/chain/${c.id}`)
    if (there) open(there)
    else act(() => makeChain(project, f!.id, `${f!.name} to engine`), open)
  }
  const own = chains?.filter((c) => c.find === f?.id).length ?? 0

  return (
    <Scroll>
      <Fault error={fault ?? error ?? f?.error} />
      {f && (
        <>
          <Body className="row wrap" style={{ paddingTop: 10 }}>
            <Button
              variant={f.state === 'stopped' ? 'outlined' : 'contained'}
              disabled={!m}
              onClick={() => chain()}
            >
              {own > 0 ? 'Go to its chain' : 'Start a chain'}
            </Button>
            {m && <SaveAs find={f.id} name={f.name} />}
            {m && (
              <Button component={Link} to={`/p/${project}/paper?scene=${m.scene}`}>
                On paper
              </Button>
            )}
            {(f.state === 'stopped' || f.state === 'failed') && (
              <Button
                variant={f.state === 'stopped' ? 'contained' : 'outlined'}
                onClick={() => act(() => decode(f.id))}
              >
                {f.state === 'stopped' ? 'Decode it' : 'Try again'}
              </Button>
            )}
            <Button
              onClick={() =>
                act(
                  () => removeFind(f.id),
                  () => void go(`/p/${project}/finds`),
                )
              }
              title={
                own > 0
                  ? `With ${plural(own, 'chain')} and what was delivered of it. It can be put back.`
                  : 'It can be put back.'
              }
            >
              Take out
            </Button>
          </Body>
          {m && (
            <>
              <Fold
                id="find.pictures"
                title="Pictures"
                sum={
                  m.stats.missing > 0 ? (
                    <Tag tone="warn">{m.stats.missing} missing</Tag>
                  ) : (
                    <Tag tone="good">all found</Tag>
                  )
                }
              >
                <Pictures list={m.pictures} bind={(ref) => <Bind project={project} name={ref} />} />
                <MissingPictures key={f.id} project={project} pictures={m.pictures} />
              </Fold>
              {m.readings && m.readings.length > 0 && (
                <Fold
                  id="find.readings"
                  title="Readings"
                  sum={<Tone is="soft">{count(m.readings.length)}</Tone>}
                >
                  <Readings list={m.readings} onRead={(all) => act(() => readAs(f.id, all))} />
                </Fold>
              )}
              <Fold
                id="find.figures"
                title="Figures"
                sum={
                  <Tone is="soft">{`${plural(m.stats.triangles, 'triangle')}, ${m.stats.height != null ? metres(m.stats.height) : unmeasured(m.stats)}`}</Tone>
                }
              >
                <Figures stats={m.stats} basis={m.basis} />
              </Fold>
              {(m.cameras?.length || m.helpers?.length || m.rootBone) && (
                <Fold
                  id="find.inside"
                  title="In it"
                  sum={<Tone is="soft">{plural(m.materials.length, 'material')}</Tone>}
                >
                  <FactGrid>
                    {m.rootBone && (
                      <>
                        <span>Root bone</span>
                        <Text as="div" mono>
                          {m.rootBone}
                        </Text>
                      </>
                    )}
                    <span>Materials</span>
                    <div>{named(m.materials) || 'none'}</div>
                    {m.motions.length > 0 && (
                      <>
                        <span>Motions</span>
                        <div>{named(m.motions.map((x) => `${x.name} ${x.seconds.toFixed(1)} s`))}</div>
                      </>
                    )}
                    {m.cameras && m.cameras.length > 0 && (
                      <>
                        <span>Cameras</span>
                        <Text as="div" tone="warn">
                          {named(m.cameras)}
                        </Text>
                      </>
                    )}
                    {m.helpers && m.helpers.length > 0 && (
                      <>
                        <span>Helpers</span>
                        <Text as="div" tone="warn">
                          {named(m.helpers)}
                        </Text>
                      </>
                    )}
                  </FactGrid>
                </Fold>
              )}
              {m.notes.length > 0 && (
                <Fold id="find.notes" title="Notes" sum={<Tone is="soft">{count(m.notes.length)}</Tone>}>
                  {m.notes.map((n) => (
                    <Item key={n}>{n}</Item>
                  ))}
                </Fold>
              )}
            </>
          )}
          <FactGrid>
            <span>From</span>
            <div style={{ overflowWrap: 'anywhere' }}>
              {f.entryPath} in {f.sourceLabel}
            </div>
            {from && (
              <>
                <span>Terms</span>
                <div data-terms>
                  {from.short}
                  {from.terms.owner && (
                    <Text as="small" tone="soft">
                      {' '}
                      · {from.terms.owner}
                    </Text>
                  )}
                </div>
              </>
            )}
          </FactGrid>
        </>
      )}
    </Scroll>
  )
}
