// The 3D view with its captions, its scale bar and the way it looks.
import { Slider, ToggleButton, ToggleButtonGroup, useColorScheme } from '@mui/material'
import { useEffect, useRef, useState, type ReactNode } from 'react'
import { colours } from '../theme'
import { metres } from './format'
import type { Facts, Look, Shading, Stage3D } from './Stage3D'

export interface PaneInfo { url: string; title: ReactNode; note?: ReactNode; axes?: ReactNode }

export function View3D({ panes, motions = [], bones = 0, tools = true, className = '', look, onLook }: {
  panes: PaneInfo[]; motions?: { name: string; seconds: number }[]; bones?: number; tools?: boolean; className?: string
  look?: { shading: Shading; skeleton: boolean }; onLook?: (l: { shading: Shading; skeleton: boolean }) => void
}) {
  const host = useRef<HTMLDivElement>(null)
  const stage = useRef<Stage3D>(null)
  const [own, setOwn] = useState<{ shading: Shading; skeleton: boolean }>({ shading: 'textured', skeleton: false })
  const [playing, setPlaying] = useState(false)
  const [time, setTime] = useState(0)
  const [motion, setMotion] = useState(0)
  const [facts, setFacts] = useState<Facts[]>([])
  const [fault, setFault] = useState('')
  const [ready, setReady] = useState(false)
  const { mode, systemMode } = useColorScheme()
  const l = look ?? own
  const set = onLook ?? setOwn
  const urls = panes.map((p) => p.url).join(' ')

  useEffect(() => {
    let s: Stage3D | undefined
    let gone = false
    // The 3D library is large: it is fetched when the first view is shown.
    void import('./Stage3D').then((m) => {
    if (gone) return
    try { s = new m.Stage3D(host.current!) } catch { setFault('This browser gives no WebGL, so there is no 3D view. The pictures and figures beside it still hold.'); return }
    stage.current = s
    s.onTime = setTime
    s.onError = (_, m) => setFault(m)
    s.onDraw = (f) => setFacts((old) => (old.length === f.length && old.every((o, i) => o.triangles === f[i].triangles && o.height === f[i].height && Math.abs(o.metresPer200px / f[i].metresPer200px - 1) < 0.01) ? old : f))
    setReady(true)
    })
    const key = (e: KeyboardEvent) => { if (e.key === '=' && !(e.target as HTMLElement).closest('input, textarea')) s?.fit() }
    window.addEventListener('keydown', key)
    return () => { gone = true; window.removeEventListener('keydown', key); s?.dispose(); stage.current = null; setReady(false) }
  }, [])
  useEffect(() => { if (ready) { setFault(''); stage.current?.show(urls ? urls.split(' ') : []) } }, [urls, ready])
  const scrub = useRef(0)
  const full: Look = { ...l, playing, time: scrub.current, motion }
  useEffect(() => { stage.current?.apply(full) }, [l.shading, l.skeleton, playing, motion, ready]) // eslint-disable-line
  useEffect(() => {
    const c = colours[(mode === 'system' ? systemMode : mode) === 'dark' ? 'dark' : 'light']
    stage.current?.colour(c.ink, c.verdi, c.figure, c.line)
  }, [mode, systemMode, urls, ready])

  const clip = motions[motion] ?? motions[0]
  const drawn = facts.length > 0 && facts.length === panes.length && facts.every((f) => f.triangles > 0)
  return (
    <div className={`view ${className}`} ref={host} data-view={drawn ? 'drawn' : 'waiting'} data-triangles={facts.map((f) => f.triangles).join(' ')} data-height={facts.map((f) => f.height.toFixed(3)).join(' ')}>
      {!drawn && <div className="veil">{fault || (panes.length ? 'Loading the model…' : '')}</div>}
      {panes.map((p, i) => (
        <div key={i}>
          <div className="caption" style={{ left: `calc(${(100 * i) / panes.length}% + 14px)` }}><b>{p.title}</b>{p.note && <span>{p.note}</span>}</div>
          {p.axes && <div className="axes" style={{ right: `calc(${100 - (100 * (i + 1)) / panes.length}% + 12px)` }}>{p.axes}</div>}
          {drawn && facts[i] && <ScaleBar per200={facts[i].metresPer200px} raised={!!clip && panes.length > 1} left={`calc(${(100 * i) / panes.length}% + 16px)`} />}
        </div>
      ))}
      {panes.length > 1 && <div className="split" />}
      {tools && (
        <div className="viewtools">
          <ToggleButtonGroup size="small" exclusive value={l.shading} onChange={(_, v: Shading | null) => v && set({ ...l, shading: v })} aria-label="Surface">
            <ToggleButton value="textured">Textured</ToggleButton><ToggleButton value="plain">Plain</ToggleButton><ToggleButton value="normals">Normals</ToggleButton><ToggleButton value="wires">Wires</ToggleButton>
          </ToggleButtonGroup>
          {bones > 0 && <ToggleButtonGroup size="small" sx={{ ml: 1 }}><ToggleButton value="s" selected={l.skeleton} onClick={() => set({ ...l, skeleton: !l.skeleton })}>Skeleton</ToggleButton></ToggleButtonGroup>}
        </div>
      )}
      {clip && (
        <div className="motion">
          <button className="mini" onClick={() => { if (playing) scrub.current = time; setPlaying(!playing) }}>{playing ? 'Pause' : 'Play'}</button>
          {motions.length > 1
            ? <button className="mini" onClick={() => { scrub.current = 0; setMotion((motion + 1) % motions.length) }}>{clip.name}</button>
            : <span title={clip.name}>{clip.name.slice(0, 16)}</span>}
          <Slider size="small" min={0} max={clip.seconds} step={clip.seconds / 200} value={Math.min(time, clip.seconds)} aria-label="Time of the motion"
            onChange={(_, v) => { scrub.current = v as number; setTime(v as number); setPlaying(false); stage.current?.apply({ ...full, playing: false, time: v as number }) }} />
          <span data-motion-time style={{ whiteSpace: 'nowrap' }}>{time.toFixed(1)} / {clip.seconds.toFixed(1)} s</span>
        </div>
      )}
    </div>
  )
}

/** A striped bar of a round length. */
function ScaleBar({ per200, left, raised }: { per200: number; left: string; raised: boolean }) {
  if (!(per200 > 0) || !isFinite(per200)) return null
  const p = Math.pow(10, Math.floor(Math.log10(per200)))
  const length = [5, 2, 1].map((k) => k * p).find((v) => v <= per200) ?? p
  return <div className="scale" style={{ left, bottom: raised ? 58 : undefined }}><i style={{ width: (200 * length) / per200 }}><b /><b /><b /><b /></i><span style={{ width: (200 * length) / per200 }}><span>0</span><span>{length >= 1 ? `${length} m` : metres(length)}</span></span></div>
}
