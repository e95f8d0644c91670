// The 3D view with its captions, its scale bar and the way it looks.
import {
  Button,
  MenuItem,
  Select,
  Slider,
  ToggleButton,
  ToggleButtonGroup,
  useColorScheme,
} from '@mui/material'
import { useEffect, useRef, useState, type ReactNode } from 'react'
import type { S } from '../api/http'
import { colours } from '../theme'
import { plainShow, type Show } from './address'
import { bytes, count, metres } from './format'
import type { Ball, Hit, Look, Surface } from './Model3D'
import type { Axes, Content, Facts, Play, Stage3D } from './Stage3D'
import { Mini } from './Mini'
import { Text } from './Text'
import { ViewFrame } from './ViewFrame'
import { useLatest, useStateOf } from './hooks'

/** nodes is how many the scene has: each is drawn by itself. */
export interface PaneInfo {
  url: string
  nodes?: number
  title: ReactNode
  note?: ReactNode
  axes?: ReactNode
  basis?: Axes
  /** The model's own unit is not known: what is measured is measured in it. */
  unitless?: boolean
  balls?: Ball[]
  /** Ends of lines that are drawn over the model, three numbers each. */
  marks?: number[]
}
/** What there is to choose from in the scene. */
export interface Offer {
  uvs: string[]
  colours: string[]
  bones: { node: number; name: string }[]
  colliders: boolean
}
/** What a screen beside the view decides. */
export interface Guide {
  chosen: string[]
  hide: boolean
  morphs: Record<string, number>
  turn?: Look['turn']
}

/** What there is to show of a scene in the 3D view. */
export function offerOf(v?: S['Inventory']): Offer {
  const most = (list: string[][]) => list.reduce((a, b) => (b.length > a.length ? b : a), [])
  const parts = v?.meshes.flatMap((m) => m.parts) ?? []
  const seen = new Set<number>()
  return {
    uvs: most(parts.map((p) => p.uvs.map((u) => u.name))).slice(0, 4),
    colours: most(parts.map((p) => p.colours)),
    bones: (v?.skins ?? []).flatMap((s) => s.bones).filter((b) => !seen.has(b.node) && seen.add(b.node)),
    colliders: (v?.colliders.length ?? 0) > 0,
  }
}

const surfaces: [Surface, string][] = [
  ['textured', 'Textured'],
  ['plain', 'Plain'],
  ['normals', 'Normals'],
  ['checker', 'UV checker'],
  ['colours', 'Vertex colours'],
  ['weights', 'Bone weights'],
  ['facing', 'Face orientation'],
]
const speeds = [0.1, 0.25, 0.5, 1, 2]
/** More nodes than this make a browser wait for each picture. */
const smooth = 50_000
const noGuide: Guide = { chosen: [], hide: false, morphs: {} }

export function View3D({
  panes,
  motions = [],
  bones = 0,
  tools = true,
  className = '',
  show = plainShow,
  onShow,
  offer,
  guide = noGuide,
  motion = 0,
  onMotion,
  seek,
  onTime,
  onPick,
  onBox,
  children,
}: {
  panes: PaneInfo[]
  motions?: { name: string; seconds: number }[]
  bones?: number
  tools?: boolean
  className?: string
  show?: Show
  onShow?: (s: Partial<Show>) => void
  offer?: Offer
  guide?: Guide
  motion?: number
  onMotion?: (n: number) => void
  /** A time to go to: a new object goes there, even to the same time. */
  seek?: { time: number }
  onTime?: (t: number) => void
  onPick?: (pane: number, hit: Hit | undefined) => void
  /** What a box that is drawn with Shift held takes. */
  onBox?: (pane: number, hits: Hit[]) => void
  children?: ReactNode
}) {
  const host = useRef<HTMLDivElement>(null)
  const stage = useRef<Stage3D>(null)
  const [playing, setPlaying] = useStateOf(seek, false) // going somewhere ends it
  const [time, setTime] = useStateOf(motion, 0)
  const [speed, setSpeed] = useState(1)
  const [facts, setFacts] = useState<Facts[]>([])

  const [ready, setReady] = useState(false)
  const { mode, systemMode } = useColorScheme()
  const picked = useLatest(onPick)
  const boxed = useLatest(onBox)
  const whole = JSON.stringify(
    panes.map((p) => ({ url: p.url, axes: p.basis, balls: p.balls, marks: p.marks })),
  )
  const [anyway, setAnyway] = useState('')
  const urls = panes.map((p) => p.url).join(' ')
  const nodes = Math.max(0, ...panes.map((p) => p.nodes ?? 0)),
    heavy = nodes > smooth && anyway !== urls
  const content = heavy ? '[]' : whole
  const [fault, setFault] = useStateOf(content, '')
  const [loaded, setLoaded] = useStateOf(content, '')
  const told = useLatest({ setTime, setFault, setLoaded, onTime })

  useEffect(() => {
    let s: Stage3D | undefined
    let gone = false
    // The 3D library is large: it is fetched when the first view is shown.
    void import('./Stage3D').then((m) => {
      if (gone) return
      try {
        s = new m.Stage3D(host.current!)
      } catch {
        told.current.setFault(
          'This browser gives no WebGL, so there is no 3D view. The pictures and figures beside it still hold.',
        )
        return
      }
      stage.current = s
      s.onTime = (t) => {
        told.current.setTime(t)
        told.current.onTime?.(t)
      }
      s.onError = (_, m) => told.current.setFault(m)
      s.onLoad = (_, n, total) =>
        told.current.setLoaded(total > 0 ? `${bytes(n)} of ${bytes(total)}` : bytes(n))
      s.onPick = (i, hit) => picked.current?.(i, hit)
      if (boxed.current) s.onBox = (i, hits) => boxed.current?.(i, hits)
      s.onDraw = (f) =>
        setFacts((old) =>
          old.length === f.length &&
          old.every(
            (o, i) =>
              o.ready === f[i].ready &&
              o.triangles === f[i].triangles &&
              o.height === f[i].height &&
              Math.abs(o.metresPer200px / f[i].metresPer200px - 1) < 0.01,
          )
            ? old
            : f,
        )
      setReady(true)
    })
    const key = (e: KeyboardEvent) => {
      if (e.key === '=' && !(e.target as HTMLElement).closest('input, textarea')) s?.fit()
    }
    window.addEventListener('keydown', key)
    return () => {
      gone = true
      window.removeEventListener('keydown', key)
      s?.dispose()
      stage.current = null
      setReady(false)
    }
  }, [picked, boxed, told])
  useEffect(() => {
    if (ready) stage.current?.show(JSON.parse(content) as Content[])
  }, [content, ready])
  const scrub = useRef(0)
  const play: Play = { playing, time: 0, motion, speed }
  useEffect(() => {
    scrub.current = 0
  }, [motion])
  useEffect(() => {
    stage.current?.move({ playing, motion, speed, time: scrub.current })
  }, [playing, motion, speed, ready])
  useEffect(() => {
    if (!seek || !ready) return
    scrub.current = seek.time
    told.current.setTime(seek.time)
    stage.current?.move({ playing: false, motion, speed: 1, time: seek.time })
    // eslint-disable-next-line react-hooks/exhaustive-deps -- it goes there once for each seek
  }, [seek, ready])
  const look: Look = { ...show, ...guide }
  const dressed = JSON.stringify([look, show.figure])
  useEffect(() => {
    const [worn, figure] = JSON.parse(dressed) as [Look, boolean]
    stage.current?.dress(worn, figure)
  }, [dressed, ready])
  useEffect(() => {
    const c = colours[(mode === 'system' ? systemMode : mode) === 'dark' ? 'dark' : 'light']
    stage.current?.colour(
      { ink: c.ink, verdi: c.verdi, ochre: c.ochre, iron: c.iron, clay: '#a89f8c' },
      c.figure,
      c.line,
    )
  }, [mode, systemMode, content, ready])

  const clip = motions[motion] ?? motions[0]
  const drawn = facts.length > 0 && facts.length === panes.length && facts.every((f) => f.ready)
  const o = offer
  const also = [
    ['wires', 'Wires', true],
    ['skeleton', 'Skeleton', bones > 0],
    ['colliders', 'Colliders', !!o?.colliders],
    ['figure', 'Figure', true],
  ] as const
  return (
    <ViewFrame
      className={`view ${className}`}
      ref={host}
      data-view={drawn ? 'drawn' : 'waiting'}
      data-triangles={facts.map((f) => f.triangles).join(' ')}
      data-height={facts.map((f) => f.height.toFixed(3)).join(' ')}
      data-speed={speed}
      data-playing={playing}
    >
      {heavy ? (
        <div className="veil">
          <div className="ask">
            <p>
              It has {count(nodes)} nodes, each drawn by itself: the 3D view would stand still for long at
              every turn. Its picture, its figures and its inventory hold without it.
            </p>
            <Button onClick={() => setAnyway(urls)}>Draw it all the same</Button>
          </div>
        </div>
      ) : (
        !drawn && (
          <div className="veil">
            {fault || (panes.length ? `Loading the model…${loaded && ` ${loaded}`}` : '')}
          </div>
        )
      )}
      {panes.map((p, i) => (
        <div key={i}>
          <div
            className="caption"
            style={{
              left: `calc(${(100 * i) / panes.length}% + 14px)`,
              maxWidth: `calc(${100 / panes.length}% - 150px)`,
            }}
          >
            <b>{p.title}</b>
            {p.note && <span>{p.note}</span>}
          </div>
          {p.axes && (
            <div className="axes" style={{ right: `calc(${100 - (100 * (i + 1)) / panes.length}% + 12px)` }}>
              {p.axes}
            </div>
          )}
          {drawn && facts[i] && (
            <ScaleBar
              per200={facts[i].metresPer200px}
              unitless={p.unitless}
              raised={!!clip}
              left={`calc(${(100 * i) / panes.length}% + 16px)`}
            />
          )}
        </div>
      ))}
      {panes.length > 1 && <div className="split" />}
      {tools && onShow && (
        <div className="viewtools">
          <Select
            value={show.surface}
            inputProps={{ 'aria-label': 'Surface' }}
            onChange={(e) =>
              onShow({
                surface: e.target.value,
                set: 0,
                bone: e.target.value === 'weights' ? (o?.bones[0]?.node ?? -1) : -1,
              })
            }
          >
            {surfaces
              .filter(
                ([k]) =>
                  !o ||
                  (k === 'checker'
                    ? o.uvs.length > 0
                    : k === 'colours'
                      ? o.colours.length > 0
                      : k === 'weights'
                        ? o.bones.length > 0
                        : true),
              )
              .filter(([k]) => o || !['checker', 'colours', 'weights'].includes(k) || k === show.surface)
              .map(([k, label]) => (
                <MenuItem key={k} value={k}>
                  {label}
                </MenuItem>
              ))}
          </Select>
          {show.surface === 'checker' && o && o.uvs.length > 0 && (
            <Which
              label="UV set"
              value={show.set}
              list={o.uvs.map((name, k) => ({ k, name }))}
              onChange={(set) => onShow({ set })}
            />
          )}
          {show.surface === 'colours' && o && o.colours.length > 0 && (
            <Which
              label="Colour set"
              value={show.set}
              list={o.colours.map((name, k) => ({ k, name }))}
              onChange={(set) => onShow({ set })}
            />
          )}
          {show.surface === 'weights' && o && o.bones.length > 0 && (
            <Which
              label="Bone"
              value={show.bone}
              list={o.bones.map((b) => ({ k: b.node, name: b.name }))}
              onChange={(bone) => onShow({ bone })}
            />
          )}
          <ToggleButtonGroup
            size="small"
            value={also.map(([k]) => k).filter((k) => show[k])}
            onChange={(_, v: string[]) =>
              onShow({
                wires: v.includes('wires'),
                skeleton: v.includes('skeleton'),
                colliders: v.includes('colliders'),
                figure: v.includes('figure'),
              })
            }
            aria-label="Also show"
          >
            {also
              .filter(([, , there]) => there)
              .map(([k, label]) => (
                <ToggleButton key={k} value={k}>
                  {label}
                </ToggleButton>
              ))}
          </ToggleButtonGroup>
          {show.surface === 'facing' && (
            <span className="legend small">
              <span className="key front">front</span>
              <span className="key iron">back</span>
            </span>
          )}
          {show.surface === 'weights' && (
            <span className="legend small">
              <span className="key clay">0</span>
              <span className="key ochre">0.5</span>
              <span className="key iron">1</span>
            </span>
          )}
        </div>
      )}
      {children}
      {clip && (
        <div className="motion">
          <Mini
            onClick={() => {
              if (playing) scrub.current = time
              setPlaying(!playing)
            }}
          >
            {playing ? 'Pause' : 'Play'}
          </Mini>
          {motions.length > 1 && onMotion ? (
            <Select
              value={motion}
              className="plain"
              inputProps={{ 'aria-label': 'Motion' }}
              onChange={(e) => onMotion(e.target.value)}
            >
              {motions.map((m, k) => (
                <MenuItem key={k} value={k}>
                  {m.name || `motion ${k + 1}`}
                </MenuItem>
              ))}
            </Select>
          ) : (
            <Text clip title={clip.name}>
              {clip.name}
            </Text>
          )}
          <Slider
            size="small"
            min={0}
            max={clip.seconds}
            step={clip.seconds / 200}
            value={Math.min(time, clip.seconds)}
            aria-label="Time of the motion"
            onChange={(_, v) => {
              scrub.current = v
              setTime(v)
              onTime?.(v)
              setPlaying(false)
              stage.current?.move({ ...play, playing: false, time: v })
            }}
          />
          <span data-motion-time style={{ whiteSpace: 'nowrap' }}>
            {time.toFixed(1)} / {clip.seconds.toFixed(1)} s
          </span>
          <Select
            value={speed}
            className="plain"
            inputProps={{ 'aria-label': 'Speed' }}
            onChange={(e) => {
              if (playing) scrub.current = time
              setSpeed(e.target.value)
            }}
          >
            {speeds.map((x) => (
              <MenuItem key={x} value={x}>
                {x} ×
              </MenuItem>
            ))}
          </Select>
        </div>
      )}
    </ViewFrame>
  )
}

function Which({
  label,
  value,
  list,
  onChange,
}: {
  label: string
  value: number
  list: { k: number; name: string }[]
  onChange: (k: number) => void
}) {
  const there = list.some((x) => x.k === value)
  return (
    <Select
      value={there ? value : ''}
      displayEmpty
      inputProps={{ 'aria-label': label }}
      onChange={(e) => onChange(Number(e.target.value))}
    >
      {!there && (
        <MenuItem value="" disabled>
          choose…
        </MenuItem>
      )}
      {list.map((x) => (
        <MenuItem key={x.k} value={x.k}>
          {x.name || `${label} ${x.k + 1}`}
        </MenuItem>
      ))}
    </Select>
  )
}

/** A striped bar of a round length. */
function ScaleBar({
  per200,
  unitless,
  left,
  raised,
}: {
  per200: number
  unitless?: boolean
  left: string
  raised: boolean
}) {
  if (!(per200 > 0) || !isFinite(per200)) return null
  const p = Math.pow(10, Math.floor(Math.log10(per200)))
  const length = [5, 2, 1].map((k) => k * p).find((v) => v <= per200) ?? p
  return (
    <div className="scale" style={{ left, bottom: raised ? 58 : undefined }}>
      <i style={{ width: (200 * length) / per200 }}>
        <b />
        <b />
        <b />
        <b />
      </i>
      <span style={{ width: (200 * length) / per200 }}>
        <span>0</span>
        <span>
          {unitless ? `${length} units` : length >= 1 && length < 1000 ? `${length} m` : metres(length)}
        </span>
      </span>
    </div>
  )
}
