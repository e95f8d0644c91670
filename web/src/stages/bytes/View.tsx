// Rows of bytes with their offsets and letters.
import {
  useEffect,
  useRef,
  useState,
  type KeyboardEvent,
  type PointerEvent,
  type ReactNode,
  type WheelEvent,
} from 'react'
import { useBytes } from '../../api/entries'
import { Fault } from '../../parts/bits'
import { Text } from '../../parts/Text'
import { ROW, hex } from './offset'

/** Rows until it is known how many there is room for. */
export const ROWS = 24

/** Of a row, and above and below all, px. */
const HEIGHT = 22

const PADDING = 16

export function View({
  entry,
  size,
  top,
  setTop,
  at,
  length,
  now,
  select,
  show,
  onRows,
  marks,
}: {
  entry: number
  size: number
  top: number
  setTop: (n: number) => void
  at: number
  length: number
  now: () => number[]
  select: (from: number, n: number) => void
  /** How many rows are shown; as many as there is room for where it is not said. */
  show?: number
  onRows?: (n: number) => void
  marks?: (i: number) => string
}) {
  const [room, setRoom] = useState(ROWS)
  const shownRows = show ?? room
  const { byte, error } = useBytes(entry, top * ROW, shownRows * ROW, size)
  const rows = Math.ceil(size / ROW)
  const anchor = useRef(-1)
  const box = useRef<HTMLDivElement>(null)
  const turn = (by: number) => setTop(Math.max(0, Math.min(top + by, Math.max(0, rows - shownRows))))
  useEffect(() => {
    const el = box.current
    const hold = (e: Event) => e.preventDefault()
    el?.addEventListener('wheel', hold, { passive: false })
    return () => el?.removeEventListener('wheel', hold)
  }, [])
  useEffect(() => {
    const el = box.current
    if (!el || show) return
    const see = new ResizeObserver(() => {
      const n = Math.max(4, Math.floor((el.clientHeight - PADDING) / HEIGHT))
      setRoom(n)
      onRows?.(n)
    })
    see.observe(el)
    return () => see.disconnect()
  }, [show, onRows])
  const keys = (e: KeyboardEvent) => {
    const by = {
      ArrowLeft: -1,
      ArrowRight: 1,
      ArrowUp: -ROW,
      ArrowDown: ROW,
      PageUp: -ROW * (shownRows - 2),
      PageDown: ROW * (shownRows - 2),
    }[e.key]
    if (!by) return
    e.preventDefault()
    const [from, n] = now()
    if (e.shiftKey) select(from, Math.max(1, Math.min(n + by, size - from)))
    else select(from + by, 1)
  }
  const drag = (e: PointerEvent, i: number) => {
    if (e.buttons & 1 && anchor.current >= 0)
      select(Math.min(anchor.current, i), Math.abs(i - anchor.current) + 1)
  }
  const lines: ReactNode[] = []
  for (let r = top; r < Math.min(rows, top + shownRows); r++) {
    const cells: ReactNode[] = []
    let text = ''
    for (let c = 0; c < ROW; c++) {
      const i = r * ROW + c,
        b = i < size ? byte(i) : undefined
      cells.push(
        <span
          key={c}
          className={`b ${i >= at && i < at + length ? 'on' : ''} ${c === 8 ? 'mid' : ''} ${marks?.(i) ?? ''}`}
          role="gridcell"
          aria-selected={i >= at && i < at + length}
          data-byte={i}
          onPointerDown={(e) => {
            anchor.current = i
            e.currentTarget.parentElement?.parentElement?.focus()
            if (e.shiftKey) {
              select(Math.min(at, i), Math.abs(i - at) + 1)
              anchor.current = at
            } else select(i, 1)
          }}
          onPointerEnter={(e) => drag(e, i)}
        >
          {i >= size ? '  ' : b === undefined ? '··' : hex(b, 2)}
        </span>,
      )
      text += b === undefined ? ' ' : b >= 32 && b < 127 ? String.fromCharCode(b) : '·'
    }
    lines.push(
      <div key={r} className="hexrow" role="row">
        <Text tone="soft" role="rowheader">
          {hex(r * ROW, 8)}
        </Text>
        {cells}
        <span className="t" role="gridcell">
          {text}
        </span>
      </div>,
    )
  }
  return (
    <div className="hexview" ref={box} onWheel={(e: WheelEvent) => turn(e.deltaY > 0 ? 3 : -3)}>
      <Fault error={error} />
      <div className="hexrows" tabIndex={0} role="grid" aria-label="Bytes" onKeyDown={keys}>
        {lines}
      </div>
      {rows > shownRows && (
        <input
          type="range"
          className="scroller"
          aria-label="Scroll"
          min={0}
          max={rows - shownRows}
          value={top}
          onChange={(e) => setTop(Number(e.target.value))}
        />
      )}
    </div>
  )
}
