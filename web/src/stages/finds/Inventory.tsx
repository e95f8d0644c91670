// Everything in a scene as rows: choose them to see them in the model.
import { Slider, ToggleButton } from '@mui/material'
import { useVirtualizer } from '@tanstack/react-virtual'
import { useEffect, useMemo, useRef, useState, type MouseEvent, type ReactNode } from 'react'
import type { S } from '../../api/http'
import type { Put, Show } from '../../parts/address'
import { count, metres, plural } from '../../parts/format'
import type { Hit } from '../../parts/Model3D'
import { Row } from '../../parts/Row'
import { Scroll } from '../../parts/Scroll'
import { Text } from '../../parts/Text'
import { TextButton } from '../../parts/TextButton'
import { Tools } from '../../parts/Tools'

export interface Row {
  id: string
  key?: string
  name: string
  note?: string
  title?: string
  depth?: number
  tone?: 'warn' | 'soft'
  swatch?: string
  act?: () => void
  on?: boolean
  end?: ReactNode
}
export interface Section {
  name: string
  title: string
  note?: string
  rows: Row[]
}

const channelNames: [RegExp, string][] = [
  [/^RGB, A opacity$/, ''],
  [/^RGB$/, ''],
]
const percent = (v: number) => (v > 0 && v < 0.01 ? 'under 1 %' : `${Math.round(v * 100)} %`)
/** A linear colour as a screen shows it (IEC 61966-2-1). */
const css = (c: number[]) =>
  `rgb(${c
    .slice(0, 3)
    .map((v) => Math.round(255 * (v <= 0.0031308 ? 12.92 * v : 1.055 * v ** (1 / 2.4) - 0.055)))
    .join(' ')})`

export function keyOf(h: Hit) {
  return `p${h.mesh}.${h.primitive}`
}

/** The rows of an inventory. */
export function sections(
  v: S['Inventory'],
  pictures: S['Picture'][],
  show: Show,
  on: (s: Partial<Show>) => void,
  put: Put,
  morphs: Record<string, number>,
  slide: (changes: Record<string, number>) => void,
): Section[] {
  const size = (x?: number[]) => x && `${x.map((n) => metres(n)).join(' × ')}`
  const part = (m: number, k: number) =>
    `${v.meshes[m].name || `mesh ${m + 1}`}${v.meshes[m].parts.length > 1 ? `, part ${k + 1}` : ''}`
  const out: Section[] = []
  const unwanted = v.nodes.map((n, i) => [n, i] as const).filter(([n]) => n.unwanted)
  if (unwanted.length)
    out.push({
      name: 'unwanted',
      title: 'Probably not wanted',
      note: count(unwanted.length),
      rows: unwanted.map(([n, i]): Row => ({
        id: `x${i}`,
        key: `n${i}`,
        name: n.name || `node ${i + 1}`,
        note: n.kind,
        tone: 'warn',
      })),
    })
  out.push(
    {
      name: 'meshes',
      title: 'Meshes and parts',
      note: plural(
        v.meshes.reduce((n, m) => n + m.parts.length, 0),
        'part',
      ),
      rows: v.meshes.flatMap((m, i) => [
        {
          id: `m${i}`,
          key: `m${i}`,
          name: m.name || `mesh ${i + 1}`,
          note: plural(
            m.parts.reduce((n, p) => n + p.triangles, 0),
            'triangle',
          ),
        },
        ...m.parts.map((p, k) => ({
          id: `p${i}.${k}`,
          key: `p${i}.${p.primitive}`,
          depth: 1,
          name: `part ${k + 1} · ${p.material >= 0 ? v.materials[p.material].name || `material ${p.material + 1}` : 'no material'}`,
          note: [
            p.triangles > 0 && count(p.triangles),
            p.lines > 0 && plural(p.lines, 'line'),
            p.points > 0 && plural(p.points, 'point'),
          ]
            .filter(Boolean)
            .join(' · '),
          title: [
            `${plural(p.vertices, 'vertex', 'vertices')}`,
            p.normals ? 'normals' : 'no normals',
            p.tangents && 'tangents',
            p.influences > 0 && `${p.influences} influences a vertex`,
          ]
            .filter(Boolean)
            .join(', '),
        })),
      ]),
    },
    {
      name: 'materials',
      title: 'Materials',
      note: count(v.materials.length),
      rows: v.materials.flatMap((m, i): Row[] => [
        {
          id: `k${i}`,
          key: `k${i}`,
          name: m.name || `material ${i + 1}`,
          swatch: css(m.colour),
          note:
            [
              m.alpha !== 'opaque' && m.alpha,
              m.twoSided && 'two-sided',
              m.unlit && 'unlit',
              m.toon && 'toon',
              ...m.layers,
            ]
              .filter(Boolean)
              .join(', ') || plural(m.triangles, 'triangle'),
          title: `${plural(m.triangles, 'triangle')}, metallic ${m.metallic.toFixed(2)}, roughness ${m.roughness.toFixed(2)}, ${m.alpha}`,
        },
        ...m.textures.map((t, k): Row => ({
          id: `k${i}t${k}`,
          depth: 2,
          name: `${t.role}${channelNames.some(([x]) => x.test(t.channels)) ? '' : ` (${t.channels})`}`,
          note: pictures[t.picture]?.name,
          tone: t.missing ? 'warn' : undefined,
          title: t.missing
            ? `${pictures[t.picture]?.name} was not found`
            : `${pictures[t.picture]?.name}, UV set ${t.uvSet + 1}`,
          act: t.missing ? undefined : () => put({ tab: 'pictures', pic: t.picture }),
        })),
      ]),
    },
  )
  const uvs = v.meshes.flatMap((m, i) =>
    m.parts.flatMap((p, k) =>
      p.uvs.map((u, s): Row => ({
        id: `u${i}.${k}.${s}`,
        name: `${u.name || `UV set ${s + 1}`} · ${part(i, k)}`,
        act: () => put({ uv: `${i}.${k}.${s}`, set: s || '' }),
        note:
          [u.overlap > 0 && `${percent(u.overlap)} overlap`, u.outside > 0 && `${percent(u.outside)} outside`]
            .filter(Boolean)
            .join(', ') || 'no overlap',
        tone: u.overlap > 0.02 || u.outside > 0 ? 'warn' : undefined,
        title: `covers ${percent(u.covered)} of the picture, from ${u.min.map((x) => x.toFixed(2)).join(', ')} to ${u.max.map((x) => x.toFixed(2)).join(', ')}`,
      })),
    ),
  )
  if (uvs.length) out.push({ name: 'uvs', title: 'UV sets', note: 'click to draw', rows: uvs })
  const colours = v.meshes.flatMap((m, i) =>
    m.parts.flatMap((p, k) =>
      p.colours.map((c, s): Row => ({
        id: `c${i}.${k}.${s}`,
        name: `${c || `colour set ${s + 1}`} · ${part(i, k)}`,
        note: `${plural(p.vertices, 'vertex', 'vertices')}`,
        on: show.surface === 'colours' && show.set === s,
        act: () => on({ surface: 'colours', set: s }),
      })),
    ),
  )
  if (colours.length) out.push({ name: 'colours', title: 'Colour sets', rows: colours })
  for (const [i, s] of v.skins.entries())
    out.push({
      name: `skin${i}`,
      title: v.skins.length > 1 ? `Skeleton ${s.name || i + 1}` : 'Skeleton',
      note: `${plural(s.bones.length, 'bone')}, ${s.depth} deep`,
      rows: s.bones.map((b, k): Row => ({
        id: `b${i}.${k}`,
        name: b.name || `bone ${k + 1}`,
        depth: b.depth,
        note: [b.human && b.human !== b.name && b.human, b.vertices ? count(b.vertices) : 'no weights']
          .filter(Boolean)
          .join(' · '),
        tone: b.vertices ? undefined : 'soft',
        on: show.surface === 'weights' && show.bone === b.node,
        title: b.vertices
          ? `${b.name} moves ${plural(b.vertices, 'vertex', 'vertices')} with ${b.weight} of weight in all`
          : `${b.name} moves nothing`,
        act: () => on({ surface: 'weights', bone: b.node }),
      })),
    })
  const slider = (name: string, value: number, set: (x: number) => void) => (
    <Slider
      size="small"
      min={0}
      max={1}
      step={0.01}
      value={Math.min(1, Math.max(0, value))}
      aria-label={name}
      onChange={(_, x) => set(x)}
      sx={{ width: 110, flex: 'none' }}
    />
  )
  if (v.morphs.length)
    out.push({
      name: 'morphs',
      title: 'Morph targets',
      note: count(v.morphs.length),
      rows: v.morphs.map((m): Row => {
        const k = `${m.mesh}.${m.index}`,
          value = morphs[k] ?? m.weight
        return {
          id: `h${k}`,
          name: m.name || `target ${m.index + 1}`,
          title: `moves ${plural(m.moves, 'vertex', 'vertices')} of ${v.meshes[m.mesh].name}`,
          note: value.toFixed(2),
          end: slider(m.name, value, (x) => slide({ [k]: x })),
        }
      }),
    })
  if (v.expressions.length)
    out.push({
      name: 'expressions',
      title: 'Expressions',
      note: count(v.expressions.length),
      rows: v.expressions.map((e, i): Row => {
        const first = e.morphs[0],
          now = first ? (morphs[`${first.mesh}.${first.index}`] ?? 0) / (first.weight || 1) : 0
        return {
          id: `e${i}`,
          name: e.name,
          note: first ? now.toFixed(2) : 'no morph targets',
          tone: first ? undefined : 'soft',
          end:
            first &&
            slider(e.name, now, (x) =>
              slide(Object.fromEntries(e.morphs.map((m) => [`${m.mesh}.${m.index}`, m.weight * x]))),
            ),
        }
      }),
    })
  if (v.motions.length)
    out.push({
      name: 'motions',
      title: 'Motions',
      note: count(v.motions.length),
      rows: v.motions.map((m, i): Row => ({
        id: `a${i}`,
        name: m.name || `motion ${i + 1}`,
        note: `${m.seconds.toFixed(2)} s · ${plural(m.keys, 'key')}`,
        title: `moves ${plural(m.moves, 'node')} by ${plural(m.channels, 'channel')}`,
        act: () => put({ motion: i || '' }),
      })),
    })
  const levels = [...new Set(v.nodes.map((n) => n.detail))].sort((a, b) => a - b)
  if (levels.length > 1)
    out.push({
      name: 'levels',
      title: 'Levels of detail',
      note: count(levels.length),
      rows: levels.map((d): Row => {
        const n = v.nodes.map((x, i) => [x, i] as const).filter(([x]) => x.detail === d && x.mesh >= 0)
        return {
          id: `l${d}`,
          name: d === 0 ? 'the finest' : `level ${d}`,
          note: plural(
            n.reduce((t, [x]) => t + v.meshes[x.mesh].parts.reduce((a, p) => a + p.triangles, 0), 0),
            'triangle',
          ),
          act: () => put({ chosen: n.map(([, i]) => `n${i}`).join(' ') }),
        }
      }),
    })
  const states = [...new Set(v.nodes.map((n) => n.state))].filter(Boolean).sort()
  if (states.length)
    out.push({
      name: 'states',
      title: 'States',
      note: count(states.length),
      rows: states.map((x): Row => {
        const n = v.nodes.map((y, i) => [y, i] as const).filter(([y]) => y.state === x)
        return {
          id: `s${x}`,
          name: x,
          note: plural(n.length, 'node'),
          act: () => put({ chosen: n.map(([, i]) => `n${i}`).join(' ') }),
        }
      }),
    })
  out.push({
    name: 'nodes',
    title: 'Nodes',
    note: count(v.nodes.length),
    rows: v.nodes.map((n, i) => ({
      id: `n${i}`,
      key: `n${i}`,
      name: n.name || `node ${i + 1}`,
      depth: n.depth,
      note: n.size ? size(n.size) : n.kind === 'node' ? '' : n.kind,
      tone: n.unwanted ? 'warn' : n.kind === 'bone' ? 'soft' : undefined,
      title: `${n.name}: ${n.kind}${n.size ? `, ${size(n.size)}` : ''}`,
    })),
  })
  return out.filter((s) => s.rows.length > 0)
}

export interface Turn {
  node: number
  name: string
  by: [number, number, number]
}

/** Short sections are open, until they are closed. */
const isOpen = (open: Record<string, boolean>, s: Section) =>
  open[s.name] ??
  (s.rows.length <= (s.name === 'nodes' ? 12 : 40) || s.name === 'unwanted' || s.name === 'morphs')

export function Inventory({
  list,
  chosen,
  hide,
  put,
  hit,
  turn,
}: {
  list: Section[]
  chosen: string[]
  hide: boolean
  put: Put
  hit?: Hit
  turn?: Turn
}) {
  const [open, setOpen] = useState<Record<string, boolean>>({})
  const box = useRef<HTMLDivElement>(null)
  const last = useRef<string>(null)
  const rows = useMemo(
    () => list.flatMap((s): (Section | Row)[] => [s, ...(isOpen(open, s) ? s.rows : [])]),
    [list, open],
  )
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => box.current,
    estimateSize: (i) => ('rows' in rows[i] ? 34 : 27),
    overscan: 12,
  })
  useEffect(() => virtual.measure(), [rows, virtual])
  // What was hit in the model is scrolled to once.
  const went = useRef<Hit>(undefined)
  useEffect(() => {
    if (went.current === hit) return
    went.current = hit
    const i = hit ? rows.findIndex((r) => 'key' in r && r.key === keyOf(hit)) : -1
    if (i >= 0) virtual.scrollToIndex(i, { align: 'center' })
  }, [hit, rows, virtual])
  const click = (r: Row, e: MouseEvent) => {
    if (!r.key) return r.act?.()
    const keys = rows.flatMap((x) => ('key' in x && x.key ? [x.key] : []))
    if (e.shiftKey && last.current) {
      const a = keys.indexOf(last.current),
        b = keys.indexOf(r.key)
      return put({
        chosen: [...new Set([...chosen, ...keys.slice(Math.min(a, b), Math.max(a, b) + 1)])].join(' '),
      })
    }
    last.current = r.key
    const on = chosen.includes(r.key)
    if (e.ctrlKey || e.metaKey)
      return put({ chosen: (on ? chosen.filter((k) => k !== r.key) : [...chosen, r.key]).join(' ') })
    put({ chosen: on && chosen.length === 1 ? '' : r.key })
  }
  return (
    <>
      <Tools low>
        <Text tone="soft" small className="grow" data-chosen={chosen.length}>
          {chosen.length ? `${count(chosen.length)} chosen` : 'Choose rows to see them in the model'}
        </Text>
        {chosen.length > 0 && (
          <>
            <ToggleButton
              size="small"
              value="hide"
              selected={hide}
              onClick={() => put({ alone: hide ? '' : 1 })}
            >
              Only these
            </ToggleButton>
            <TextButton onClick={() => put({ chosen: '', alone: '' })}>None</TextButton>
          </>
        )}
      </Tools>
      {turn && <TurnBone turn={turn} put={put} />}
      <Scroll ref={box} role="tree" aria-multiselectable aria-label="Inventory" tabIndex={-1}>
        <div style={{ height: virtual.getTotalSize(), position: 'relative' }}>
          {virtual.getVirtualItems().map((x) => {
            const r = rows[x.index],
              place = { transform: `translateY(${x.start}px)`, height: x.size }
            if ('rows' in r)
              return (
                <button
                  key={r.name}
                  className="invhead"
                  role="treeitem"
                  aria-level={1}
                  aria-selected={false}
                  style={place}
                  aria-expanded={isOpen(open, r)}
                  data-section={r.name}
                  onClick={() => setOpen({ ...open, [r.name]: !isOpen(open, r) })}
                >
                  <span className="fold">{isOpen(open, r) ? '–' : '+'}</span>
                  <b>{r.title}</b>
                  <span>{r.note}</span>
                </button>
              )
            return (
              <div
                key={r.id}
                className={`invrow ${r.tone ?? ''} ${r.on || (r.key && chosen.includes(r.key)) ? 'on' : ''} ${r.key || r.act ? 'live' : ''}`}
                style={{ ...place, paddingLeft: 34 + 12 * Math.min(r.depth ?? 0, 9) }}
                title={r.title}
                role="treeitem"
                aria-level={2}
                aria-selected={!!(r.on || (r.key && chosen.includes(r.key)))}
                tabIndex={r.key || r.act ? 0 : -1}
                data-row={r.id}
                onClick={(e) => {
                  if (!(e.target as HTMLElement).closest('.MuiSlider-root')) click(r, e)
                }}
                onKeyDown={(e) => {
                  if (e.key === 'Enter' || e.key === ' ') {
                    if ((e.target as HTMLElement).closest('.MuiSlider-root')) return
                    e.preventDefault()
                    click(r, e as unknown as MouseEvent)
                  }
                }}
              >
                {r.swatch && <i style={{ background: r.swatch }} />}
                <Text clip className="grow">
                  {r.name}
                </Text>
                {r.end}
                <Text clip className="n">
                  {r.note}
                </Text>
              </div>
            )
          })}
        </div>
      </Scroll>
    </>
  )
}

/** Turns the bone whose weights are shown, by degrees about its own axes. */
export function TurnBone({ turn, put }: { turn: Turn; put: Put }) {
  return (
    <div className="turn">
      <Row between>
        <Text as="b" clip>
          Turn {turn.name}
        </Text>
        {turn.by.some((v) => v !== 0) && (
          <TextButton onClick={() => put({ turn: '' })}>Back to rest</TextButton>
        )}
      </Row>
      {(['X', 'Y', 'Z'] as const).map((axis, k) => (
        <Row key={axis}>
          <span>{axis}</span>
          <Slider
            size="small"
            min={-90}
            max={90}
            value={turn.by[k]}
            aria-label={`Turn about the bone's ${axis}`}
            onChange={(_, v) =>
              put({
                turn: `${turn.node}:${turn.by.map((x, i) => (i === k ? v : x)).join(':')}`,
              })
            }
          />
          <span className="n">{turn.by[k]}°</span>
        </Row>
      ))}
    </div>
  )
}
