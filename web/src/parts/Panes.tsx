// A page of panes side by side. The edges between them are dragged with the
// mouse, or moved with the arrow keys, and stay where they were put.
import { styled } from '@mui/material'
import {
  Children,
  useEffect,
  useRef,
  useState,
  type KeyboardEvent,
  type PointerEvent,
  type ReactNode,
} from 'react'

const Frame = styled('div')({
  display: 'grid',
  height: '100%',
  flex: '1 1 0',
  minHeight: 0,
  minWidth: 0,
  position: 'relative',
  overflow: 'hidden',
  gridTemplateRows: 'minmax(0, 1fr)',
  '& > *': { minHeight: 0, minWidth: 0 },
})

const Edge = styled('div')({
  position: 'relative',
  zIndex: 5,
  cursor: 'col-resize',
  touchAction: 'none',
  background: 'var(--line)',
  // Easier to hit than it is wide.
  '&::before': { content: '""', position: 'absolute', top: 0, bottom: 0, left: -4, right: -4 },
  '&:hover, &:focus-visible': { background: 'var(--verdi)' },
  '&:focus-visible': { outline: '2px solid var(--slate)', outlineOffset: 0 },
})

/** A pane that keeps its width, in px; 'rest' is one that takes what is left. */
export type Width = { of: number; least: number } | 'rest'

const STEP = 16 // px, of an arrow key
const REST = 260 // px that the rest keeps at least

const load = (id: string): (number | null)[] => {
  try {
    const v: unknown = JSON.parse(localStorage.getItem(`excavate.panes.${id}`) ?? '[]')
    return Array.isArray(v) ? v.map((x) => (typeof x === 'number' ? x : null)) : []
  } catch {
    return []
  }
}

/** Widths that fit the room: where they do not, all give way as far as they can. */
function fit(want: (number | null)[], widths: Width[], room: number): number[] {
  const fixed = widths.map((w, i) => (w === 'rest' ? 0 : Math.max(w.least, want[i] ?? w.of)))
  const rests = widths.filter((w) => w === 'rest').length
  const over = fixed.reduce((a, b) => a + b, 0) + rests * REST + widths.length - 1 - room
  if (over <= 0 || room === 0) return fixed
  const give = widths.map((w, i) => (w === 'rest' ? 0 : fixed[i] - w.least))
  const all = give.reduce((a, b) => a + b, 0)
  return fixed.map((w, i) => (all > 0 ? Math.round(w - give[i] * Math.min(1, over / all)) : w))
}

export function Panes({
  id,
  widths,
  labels,
  children,
}: {
  /** Under which the widths are remembered. */
  id: string
  widths: Width[]
  /** What each pane is, for its edge. */
  labels: string[]
  children: ReactNode
}) {
  const [want, setWant] = useState(() => load(id))
  const [room, setRoom] = useState(0)
  const box = useRef<HTMLDivElement>(null)
  const from = useRef({ x: 0, width: 0 })
  useEffect(() => {
    const el = box.current
    if (!el) return
    const see = new ResizeObserver(() => setRoom(el.clientWidth))
    see.observe(el)
    return () => see.disconnect()
  }, [])
  const now = fit(want, widths, room)
  const set = (i: number, width: number) => {
    const w = widths[i]
    if (w === 'rest' || room === 0) return
    const others = now.reduce((a, b, k) => a + (k === i ? 0 : b), 0)
    const rests = widths.filter((x) => x === 'rest').length
    const most = Math.max(w.least, room - others - rests * REST - widths.length + 1)
    const next = widths.map((_, k) =>
      k === i ? Math.round(Math.max(w.least, Math.min(most, width))) : (want[k] ?? null),
    )
    setWant(next)
    localStorage.setItem(`excavate.panes.${id}`, JSON.stringify(next))
  }
  const panes = Children.toArray(children)
  const cells: ReactNode[] = []
  panes.forEach((p, i) => {
    cells.push(p)
    if (i === panes.length - 1) return
    // The edge belongs to the pane beside it that keeps its width.
    const mine = widths[i] === 'rest' ? i + 1 : i
    const sign = mine === i ? 1 : -1
    cells.push(
      <Edge
        key={`edge ${i}`}
        // A separator that can be moved is a control (WAI-ARIA, window splitter).

        role="separator"
        tabIndex={0}
        aria-orientation="vertical"
        aria-label={`Width of ${labels[mine]}`}
        aria-valuenow={now[mine]}
        aria-valuemin={(widths[mine] as { least: number }).least}
        aria-valuemax={Math.max(now[mine], room)}
        data-edge={i}
        onKeyDown={(e: KeyboardEvent) => {
          const by = { ArrowLeft: -STEP, ArrowRight: STEP }[e.key]
          if (by) set(mine, now[mine] + sign * by)
          else if (e.key === 'Home') set(mine, 0)
          else return
          e.preventDefault()
        }}
        onPointerDown={(e: PointerEvent) => {
          e.currentTarget.setPointerCapture(e.pointerId)
          from.current = { x: e.clientX, width: now[mine] }
        }}
        onPointerMove={(e: PointerEvent) => {
          if (e.currentTarget.hasPointerCapture(e.pointerId))
            set(mine, from.current.width + sign * (e.clientX - from.current.x))
        }}
        onDoubleClick={() => set(mine, (widths[mine] as { of: number }).of)}
      />,
    )
  })
  const columns = widths.map((w, i) => (w === 'rest' ? 'minmax(0, 1fr)' : `${now[i]}px`)).join(' 1px ')
  return (
    <Frame ref={box} style={{ gridTemplateColumns: columns }}>
      {cells}
    </Frame>
  )
}
