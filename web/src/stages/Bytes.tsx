// The byte workbench: bytes of which nothing is known, what they look like,
// and what they give when they are read as something.
import { MenuItem, OutlinedInput, Select, ToggleButton, ToggleButtonGroup } from '@mui/material'

import {
  useEffect,
  useLayoutEffect,
  useRef,
  useState,
  type KeyboardEvent,
  type PointerEvent,
  type ReactNode,
  type WheelEvent,
} from 'react'
import { useNavigate, useParams } from 'react-router'
import { findBytes, useBytes, useNamedEntries, useStrip } from '../api/entries'
import type { S } from '../api/http'
import {
  pictureTrialUrl,
  usePacked,
  usePictureTrial,
  useWidths,
  type Order,
  type PictureTrial as PictureQuery,
} from '../api/trials'
import { useAddress } from '../parts/address'
import { Fault } from '../parts/bits'
import { bytes, count } from '../parts/format'
import { useProjectId } from '../parts/project'
import { Keep } from './Keep'
import { NotesPane } from './Notes'
import { MeshTrial, RecordTrial } from './Trials'
import { Code } from '../parts/Code'
import { Empty } from '../parts/Empty'
import { Form, Label } from '../parts/Form'
import { Item } from '../parts/Item'
import { Mini } from '../parts/Mini'
import { Pane } from '../parts/Pane'
import { Row } from '../parts/Row'
import { Scroll } from '../parts/Scroll'
import { Text } from '../parts/Text'
import { TextButton } from '../parts/TextButton'
import { Tools } from '../parts/Tools'
import { TagButton } from '../parts/TagButton'
import { Bench } from '../parts/Bench'
import { Panes } from '../parts/Panes'
import { useHeld, useObjectUrl, useStateOf } from '../parts/hooks'

/** Bytes in a row. */
export const ROW = 16
/** Rows until it is known how many there is room for. */
const ROWS = 24
/** Of a row, and above and below all, px. */
const HEIGHT = 22
const PADDING = 16
const hex = (n: number, w = 0) => n.toString(16).padStart(w, '0')
/** Reads an offset: decimal, or hexadecimal with 0x. */
export const offset = (s: string) => {
  const t = s.trim()
  const n = /^(\d+|0x[0-9a-f]+)$/i.test(t) ? Number(t.toLowerCase()) : NaN
  return Number.isSafeInteger(n) ? n : undefined
}

export function Bytes() {
  const project = useProjectId()
  const entry = Number(useParams().entry)
  const go = useNavigate()
  const [params, put] = useAddress()
  const whole = useStrip(entry)
  const size = whole.data?.size ?? 0
  // What is chosen is held here, so that keys that follow each other quickly
  // all count; the address follows.
  const named = `${Number(params.get('at') ?? 0)} ${Math.max(1, Number(params.get('n') ?? 1))}`
  const [chosen, setChosen] = useHeld(named, (v) => {
    const [to, n] = v.split(' ').map(Number)
    put({ at: to, n: n > 1 ? n : '' })
  })
  // Keys may come before what they choose is drawn.
  const now = useRef(chosen)
  useLayoutEffect(() => {
    now.current = chosen
  })
  const [wanted, length] = chosen.split(' ').map(Number)
  const at = size > 0 ? Math.min(wanted, size - 1) : wanted
  const [rows, setRows] = useState(ROWS)
  const last = Math.max(0, Math.ceil(size / ROW) - rows)
  const [scrolled, setTop] = useStateOf<number | undefined>(entry, undefined)
  // Until it is scrolled, what the address names is shown; the size comes after the first draw.
  const top = scrolled ?? Math.max(0, Math.min(Math.floor(at / ROW) - 4, last))
  // The places that were jumped from, and those that were gone back from.
  const [back, setBack] = useState<number[]>([])
  const [forth, setForth] = useState<number[]>([])
  const [fault, setFault] = useState<unknown>()
  const [describing, setDescribing] = useState(false)
  const select = (from: number, n: number, jump = false) => {
    const to = size > 0 ? Math.min(Math.max(0, from), size - 1) : Math.max(0, from) // the size may still be on its way
    if (jump) {
      setBack([...back, at])
      setForth([])
    }
    now.current = `${to} ${Math.max(1, n)}`
    setChosen(now.current)
    const row = Math.floor(to / ROW)
    const out = row < top || row >= top + rows
    setTop(out ? Math.max(0, size > 0 ? Math.min(row - 4, last) : row - 4) : top)
  }
  const travel = (back: boolean, from: number[], to: number[]) => {
    const n = from[from.length - 1]
    if (n === undefined) return
    const [less, more] = [from.slice(0, -1), [...to, at]]
    setBack(back ? less : more)
    setForth(back ? more : less)
    select(n, 1)
  }
  return (
    <Bench>
      <Strip
        strip={whole.data}
        at={at}
        entry={entry}
        onGo={(n) => select(n, 1, true)}
        onClose={() => void go(`/p/${project}/sources?entry=${entry}`)}
        onDescribe={() => setDescribing(!describing)}
      />
      {describing && (
        <div className="stripe">
          <Keep entry={entry} plain trial={{}} />
        </div>
      )}
      <Fault error={whole.error ?? fault} />
      <Panes id="bytes" widths={[{ of: 592, least: 592 }, 'rest']} labels={['bytes', 'trials']}>
        <Pane column>
          <Finder
            at={at}
            size={size}
            entry={entry}
            onGo={(n, len) => select(n, len ?? 1, true)}
            onFault={setFault}
            canBack={back.length > 0}
            canForth={forth.length > 0}
            onBack={() => travel(true, back, forth)}
            onForth={() => travel(false, forth, back)}
          />
          <View
            entry={entry}
            size={size}
            top={top}
            setTop={setTop}
            at={at}
            length={length}
            now={() => now.current.split(' ').map(Number)}
            select={select}
            onRows={setRows}
          />
          <Values entry={entry} at={at} length={length} size={size} onFollow={(n) => select(n, 1, true)} />
        </Pane>
        <Trials
          entry={entry}
          path={whole.data?.path}
          at={at}
          length={length}
          size={size}
          onGo={(n, len) => select(n, len, true)}
        />
      </Panes>
    </Bench>
  )
}

function Strip({
  strip,
  at,
  entry,
  onGo,
  onClose,
  onDescribe,
}: {
  strip?: S['Strip']
  at: number
  entry: number
  onGo: (n: number) => void
  onClose: () => void
  onDescribe: () => void
}) {
  const [near, setNear] = useState(false)
  const span = Math.max(4096, Math.ceil((strip?.size ?? 0) / 32))
  const from = Math.max(0, Math.floor(at / span) * span)
  const close = useStrip(entry, from, span, near && !!strip)
  const s = near ? (close.data ?? strip) : strip
  // Neighbours of one class are one band.
  const bands: (S['Strip']['cells'][number] & { end: number })[] = []
  for (const c of s?.cells ?? []) {
    const b = bands[bands.length - 1]
    if (b && b.class === c.class && b.stride === c.stride) b.end = c.at + c.size
    else bands.push({ ...c, end: c.at + c.size })
  }
  const total = Math.max(1, (s?.to ?? 1) - (s?.from ?? 0))
  return (
    <div className="stripe">
      <div className="stripband" role="group" aria-label="What the file looks like">
        {bands.map((b) => (
          <button
            key={b.at}
            className={`look is-${b.class}`}
            data-class={b.class}
            style={{ width: `${(100 * (b.end - b.at)) / total}%` }}
            title={`${b.class}${b.stride ? `, stride ${b.stride}` : ''}: ${count(b.at)} to ${count(b.end)}. ${b.evidence}`}
            aria-label={`${b.class} at ${b.at}`}
            onClick={() => onGo(b.at)}
          />
        ))}
        {s && at >= s.from && at < s.to && <i style={{ left: `${(100 * (at - s.from)) / total}%` }} />}
      </div>
      <Row wrap>
        <Text as="b" clip>
          {strip?.path}
        </Text>
        <Text tone="soft" small>
          {strip && `${count(strip.size)} bytes`}
        </Text>
        {strip?.classes
          .filter((c) => strip.cells.some((x) => x.class === c))
          .map((c) => (
            <Row as="span" key={c} className="soft small">
              <i className={`look key is-${c}`} />
              {c}
            </Row>
          ))}
        <span className="grow" />
        {strip && strip.size > 8192 && (
          <TextButton onClick={() => setNear(!near)}>
            {near ? 'The whole file' : `Closer: ${bytes(span)} round the cursor`}
          </TextButton>
        )}
        <TextButton onClick={onDescribe}>Describe it with a layout</TextButton>
        <TextButton onClick={onClose}>Back to the sources</TextButton>
      </Row>
    </div>
  )
}

function Finder({
  at,
  size,
  entry,
  onGo,
  onFault,
  canBack,
  canForth,
  onBack,
  onForth,
}: {
  at: number
  size: number
  entry: number
  onGo: (n: number, len?: number) => void
  onFault: (e: unknown) => void
  canBack: boolean
  canForth: boolean
  onBack: () => void
  onForth: () => void
}) {
  const [to, setTo] = useState('')
  const [pattern, setPattern] = useState('')
  const [found, setFound] = useState('')
  const jump = () => {
    const n = offset(to)
    if (n === undefined || n >= size)
      onFault(
        new Error(
          `${to || 'Nothing'} is no offset in this entry: it has ${count(size)} bytes, from 0 to ${count(size - 1)} or 0x${hex(size - 1)}`,
        ),
      )
    else {
      onFault(undefined)
      onGo(n)
    }
  }
  const find = async () => {
    onFault(undefined)
    try {
      const r = await findBytes(entry, pattern, at + 1)
      if (r.at < 0) setFound('none from here on')
      else {
        setFound('')
        onGo(r.at, r.length)
      }
    } catch (e) {
      onFault(e)
    }
  }
  return (
    <Tools>
      <Mini disabled={!canBack} aria-label="Back" onClick={onBack}>
        ←
      </Mini>
      <Mini disabled={!canForth} aria-label="Forward" onClick={onForth}>
        →
      </Mini>
      <form
        onSubmit={(e) => {
          e.preventDefault()
          jump()
        }}
      >
        <OutlinedInput
          value={to}
          onChange={(e) => setTo(e.target.value)}
          placeholder="Go to 0x40"
          inputProps={{ 'aria-label': 'Go to', className: 'mono', size: 9 }}
        />
      </form>
      <form
        className="grow"
        onSubmit={(e) => {
          e.preventDefault()
          void find()
        }}
      >
        <OutlinedInput
          fullWidth
          value={pattern}
          onChange={(e) => setPattern(e.target.value)}
          placeholder='Find 48 ?? 4c, or "text"'
          inputProps={{ 'aria-label': 'Find bytes', className: 'mono', spellCheck: false }}
        />
      </form>
      {found && (
        <Text tone="warn" small>
          {found}
        </Text>
      )}
    </Tools>
  )
}

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

function half(h: number) {
  const s = h >> 15 ? -1 : 1,
    e = (h >> 10) & 31,
    f = h & 1023
  return e === 0
    ? (s * f) / 2 ** 24
    : e === 31
      ? f
        ? NaN
        : s * Infinity
      : s * 2 ** (e - 15) * (1 + f / 1024)
}

function Values({
  entry,
  at,
  length,
  size,
  onFollow,
}: {
  entry: number
  at: number
  length: number
  size: number
  onFollow: (n: number) => void
}) {
  const [little, setLittle] = useState(true)
  const { byte } = useBytes(entry, at, 8, size)
  const raw = new Uint8Array(8)
  let have = 0
  for (let i = 0; i < 8; i++) {
    const b = byte(at + i)
    if (b === undefined) break
    raw[i] = b
    have++
  }
  const v = new DataView(raw.buffer)
  const num = (x: number) =>
    Number.isInteger(x)
      ? count(x)
      : Math.abs(x) >= 1e6 || (x !== 0 && Math.abs(x) < 1e-4)
        ? x.toExponential(4)
        : x.toPrecision(6)
  const list: [string, number, string][] = [
    ['u8', 1, num(v.getUint8(0))],
    ['i8', 1, num(v.getInt8(0))],
    ['u16', 2, num(v.getUint16(0, little))],
    ['i16', 2, num(v.getInt16(0, little))],
    ['u32', 4, num(v.getUint32(0, little))],
    ['i32', 4, num(v.getInt32(0, little))],
    ['u64', 8, v.getBigUint64(0, little).toLocaleString('en-GB')],
    ['fixed 1/256', 2, num(v.getInt16(0, little) / 256)],
    ['f16', 2, num(half(v.getUint16(0, little)))],
    ['f32', 4, num(v.getFloat32(0, little))],
    ['f64', 8, num(v.getFloat64(0, little))],
  ]
  const pointer = v.getUint32(0, little)
  const shapes = [2, 3, 4, 6, 8, 12, 16, 20, 24, 28, 32, 36, 40, 48, 64]
    .filter((s) => length > s && length % s === 0)
    .map((s) => `${count(length / s)} × ${s}`)
  return (
    <div className="values">
      <Row between>
        <Text small>
          <Text as="b" mono>
            0x{hex(at)}
          </Text>{' '}
          <Text tone="soft">{count(at)}</Text> ·{' '}
          {length === 1
            ? '1 byte'
            : `${count(length)} bytes chosen${shapes.length ? ` = ${shapes.slice(0, 4).join(' = ')}` : ''}`}
        </Text>
        <Row as="span">
          <TextButton
            data-follow
            disabled={have < 4 || pointer >= size}
            onClick={() => onFollow(pointer)}
            title="Go where the u32 here points"
          >
            Follow u32
          </TextButton>
          <TextButton onClick={() => setLittle(!little)}>{little ? 'little' : 'big'} end · swap</TextButton>
        </Row>
      </Row>
      <div className="valuegrid">
        {list.map(([k, need, x]) => (
          <span key={k} className={k === 'u64' || k === 'f64' ? 'long' : undefined}>
            <Text tone="soft">{k}</Text> <span data-value={k}>{have >= need ? x : '–'}</span>
          </span>
        ))}
      </div>
    </div>
  )
}

const formats = [
  'r5g6b5_pack16',
  'b5g6r5_pack16',
  'r5g5b5a1_pack16',
  'a1r5g5b5_pack16',
  'a1b5g5r5_pack16',
  'r4g4b4a4_pack16',
  'a4r4g4b4_pack16',
  'r8g8b8',
  'b8g8r8',
  'r8g8b8a8',
  'b8g8r8a8',
  'l8',
  'l8a8',
  'l4a4_pack8',
  'i8',
  'indexed8',
  'indexed4',
  'indexed4_low',
  'bc1',
  'bc2',
  'bc3',
  'bc4',
  'bc5',
  'bc6h_ufloat',
  'bc7',
  'r16g16b16a16_sfloat',
]

function Trials({
  entry,
  path,
  at,
  length,
  size,
  onGo,
}: {
  entry: number
  path?: string
  at: number
  length: number
  size: number
  onGo: (at: number, n: number) => void
}) {
  const [params, put] = useAddress()
  const tab = params.get('as') ?? 'picture'
  const setTab = (v: string) => put({ as: v })
  return (
    <Pane column>
      <Tools>
        <ToggleButtonGroup
          exclusive
          size="small"
          value={tab}
          aria-label="Read as"
          onChange={(_, v: string | null) => v && setTab(v)}
        >
          <ToggleButton value="picture">Picture</ToggleButton>
          <ToggleButton value="mesh">Points, mesh</ToggleButton>
          <ToggleButton value="records">Records</ToggleButton>
          <ToggleButton value="packed">Packed</ToggleButton>
          <ToggleButton value="text">Text</ToggleButton>
          <ToggleButton value="notes">Notes</ToggleButton>
        </ToggleButtonGroup>
      </Tools>
      {size === 0 ? null : tab === 'picture' ? (
        <PictureTrial entry={entry} at={at} size={size} />
      ) : tab === 'mesh' ? (
        <MeshTrial entry={entry} at={at} onGo={onGo} />
      ) : tab === 'records' ? (
        <RecordTrial entry={entry} at={at} length={length} onGo={onGo} />
      ) : tab === 'packed' ? (
        <PackedTrial entry={entry} at={at} length={length} />
      ) : tab === 'notes' ? (
        <NotesPane entry={entry} path={path} at={at} length={length} onGo={onGo} />
      ) : (
        <TextTrial entry={entry} at={at} length={length} size={size} />
      )}
    </Pane>
  )
}

function PictureTrial({ entry, at, size }: { entry: number; at: number; size: number }) {
  const [p, setP] = useState({
    width: 64,
    height: 64,
    format: 'r5g6b5_pack16',
    order: 'little' as Order,
    rows: 'top-down' as NonNullable<PictureQuery['rows']>,
    tiling: 'linear',
    tileWidth: 8,
    tileHeight: 8,
    paletteAt: '',
    paletteEntry: 0,
    paletteFormat: 'r8g8b8a8',
  })
  const set = (x: Partial<typeof p>) => setP({ ...p, ...x })
  const guess = useWidths(entry, at, p.format, p.order, size > 0)
  const indexed = p.format.startsWith('indexed')
  const pal = offset(p.paletteAt)
  const asked: PictureQuery = {
    at,
    width: p.width,
    height: p.height,
    format: p.format,
    order: p.order,
    rows: p.rows,
    tiling: p.tiling,
    ...(p.tiling === 'tiles' ? { tileWidth: p.tileWidth, tileHeight: p.tileHeight } : {}),
    ...(indexed && p.paletteAt && pal !== undefined
      ? { paletteAt: pal, paletteFormat: p.paletteFormat, paletteEntry: p.paletteEntry || undefined }
      : {}),
  }
  // A palette in another entry is no part of this one's layout.
  const { paletteEntry, ...kept } = asked
  if (paletteEntry) delete kept.paletteAt
  const shown = usePictureTrial(pictureTrialUrl(entry, asked), size > 0 && p.width > 0 && p.height > 0)
  const src = useObjectUrl(shown.data)
  const num = (k: 'width' | 'height' | 'tileWidth' | 'tileHeight', label: string) => (
    <Texels key={k} label={label} value={p[k]} onChange={(n) => set({ [k]: n })} />
  )
  const pick = (
    k: 'format' | 'order' | 'rows' | 'tiling' | 'paletteFormat',
    label: string,
    list: string[],
  ) => (
    <Label>
      {label}
      <Select
        fullWidth
        value={p[k]}
        onChange={(e) => set({ [k]: e.target.value })}
        inputProps={{ 'aria-label': label }}
      >
        {list.map((x) => (
          <MenuItem key={x} value={x}>
            {x}
          </MenuItem>
        ))}
      </Select>
    </Label>
  )
  return (
    <div className="trial">
      <div className="trialpicture">
        {src && (
          <img
            alt={`The bytes as ${p.width} by ${p.height} texels`}
            data-trial={`${p.width}x${p.height}`}
            src={src}
            style={{ width: Math.min(560, Math.max(192, p.width * (p.width < 160 ? 3 : 1))) }}
          />
        )}
      </div>
      <Form>
        {num('width', 'Width')}
        {guess.data && guess.data.length > 0 && (
          <Row wrap className="small">
            {guess.data.map((g) => (
              <TagButton
                key={g.value}
                tone={g.value === p.width ? 'good' : 'plain'}
                data-guess={g.value}
                title={g.evidence}
                onClick={() => set({ width: g.value })}
              >
                {g.value}, {Math.round(100 * g.score)}% sure
              </TagButton>
            ))}
          </Row>
        )}
        {guess.data?.length === 0 && (
          <Text as="div" tone="soft" small>
            No width stands out from here.
          </Text>
        )}
        {num('height', 'Height')}
        {pick('format', 'Texel format', formats)}
        {pick('order', 'Byte order', ['little', 'big'])}
        {pick('tiling', 'Tiling', ['linear', 'morton', 'zorder-8', 'tiles', 'columns'])}
        {p.tiling === 'tiles' && (
          <>
            {num('tileWidth', 'Tile width')}
            {num('tileHeight', 'Tile height')}
          </>
        )}
        {pick('rows', 'Rows', ['top-down', 'bottom-up'])}
        {indexed && (
          <>
            <Label>
              Palette at
              <OutlinedInput
                fullWidth
                value={p.paletteAt}
                onChange={(e) => set({ paletteAt: e.target.value })}
                placeholder="0x36, or none for greys"
                inputProps={{ 'aria-label': 'Palette at', className: 'mono' }}
              />
            </Label>
            <PaletteEntry value={p.paletteEntry} onChange={(paletteEntry) => set({ paletteEntry })} />
            {pick(
              'paletteFormat',
              'Palette format',
              formats.filter((f) => !f.startsWith('bc') && !f.startsWith('indexed')),
            )}
          </>
        )}
        <Fault error={shown.error ?? guess.error} />
        <Keep entry={entry} trial={{ picture: kept }} />
      </Form>
    </div>
  )
}

/** A number of texels. It counts while it is one, and may be cleared to type another. */
function Texels({ label, value, onChange }: { label: string; value: number; onChange: (n: number) => void }) {
  const [typed, setTyped] = useState({ text: String(value), of: value })
  const fits = (t: string) => {
    const n = /^\d+$/.test(t.trim()) ? Number(t) : 0
    return n >= 1 && n <= 16384 ? n : undefined
  }
  // What is typed stands as long as the value is not changed by something else.
  const text = typed.of === value || fits(typed.text) === value ? typed.text : String(value)
  const setText = (t: string) => setTyped({ text: t, of: value })
  const type = (t: string) => {
    setText(t)
    const n = fits(t)
    if (n !== undefined) onChange(n)
  }
  const wrong = fits(text) === undefined
  return (
    <Label>
      {label}
      <OutlinedInput
        fullWidth
        value={text}
        error={wrong}
        onChange={(e) => type(e.target.value)}
        onBlur={() => wrong && setText(String(value))}
        inputProps={{ 'aria-label': label, inputMode: 'numeric' }}
        endAdornment={<Text tone="soft">texels</Text>}
      />
      {wrong && (
        <Text tone="bad" small block>
          A whole number from 1 to 16,384
        </Text>
      )}
    </Label>
  )
}

/** The entry that a palette lies in: this one, or one that is looked for by name. */
function PaletteEntry({ value, onChange }: { value: number; onChange: (id: number) => void }) {
  const project = useProjectId()
  const [text, setText] = useState('')
  const { data } = useNamedEntries(project, text, 12)
  const rows = data?.entries ?? []
  return (
    <>
      <Label>
        Palette in
        <OutlinedInput
          fullWidth
          value={text}
          onChange={(e) => {
            setText(e.target.value)
            if (!e.target.value) onChange(0)
          }}
          placeholder="this entry; or part of another's name"
          inputProps={{ 'aria-label': 'Palette in' }}
        />
      </Label>
      {text.length > 1 && (
        <Row wrap className="small">
          {rows.map((e) => (
            <TagButton
              key={e.id}
              tone={e.id === value ? 'good' : 'plain'}
              data-palette={e.id}
              title={e.path}
              onClick={() => onChange(e.id)}
            >
              {e.path.split('/').pop()}
            </TagButton>
          ))}
          {rows.length === 0 && <Text tone="soft">none has that in its name</Text>}
        </Row>
      )}
    </>
  )
}

function PackedTrial({ entry, at, length }: { entry: number; at: number; length: number }) {
  const { data, error, isFetching } = usePacked(entry, at, length > 1 ? length : undefined)
  const good = data?.filter((u) => u.bytes > 0) ?? []
  return (
    <Scroll>
      <Fault error={error} />
      {isFetching && !data && <Empty>Every packing method is tried…</Empty>}
      {data && good.length === 0 && (
        <Empty>
          <b>Nothing unpacks from here</b>No usual packing method gives a byte from offset {count(at)}. Try
          the byte after a header.
        </Empty>
      )}
      {good.map((u) => (
        <Item key={u.codec} data-codec={u.codec}>
          <Row between>
            <b>{u.codec}</b>
            <Text tone="soft" small>
              {u.bytes >= 1 << 20 ? 'over ' : ''}
              {bytes(u.bytes)} that look like {u.class}
            </Text>
          </Row>
          <Text as="small" mono>
            {u.text}
          </Text>
          {u.stopped && (
            <small className={u.stopped.includes('beyond') ? '' : 'warn'}>
              {u.stopped.includes('beyond') ? 'and goes on' : u.stopped}
            </small>
          )}
        </Item>
      ))}
      {data && good.length > 0 && (
        <Item className="soft small">
          Nothing from here with{' '}
          {data
            .filter((u) => u.bytes === 0)
            .map((u) => u.codec)
            .join(', ') || 'none of the others'}
          .
        </Item>
      )}
    </Scroll>
  )
}

const encodings: [string, string][] = [
  ['UTF-8', 'utf-8'],
  ['UTF-16 LE', 'utf-16le'],
  ['UTF-16 BE', 'utf-16be'],
  ['Shift-JIS', 'shift_jis'],
  ['Windows-1252', 'windows-1252'],
]

function TextTrial({ entry, at, length, size }: { entry: number; at: number; length: number; size: number }) {
  const n = Math.min(length > 1 ? length : 400, 2000, size - at)
  const { byte } = useBytes(entry, at, n, size)
  const raw = new Uint8Array(n)
  for (let i = 0; i < n; i++) raw[i] = byte(at + i) ?? 0
  return (
    <Scroll>
      {encodings.map(([name, label]) => (
        <Item key={name}>
          <b>{name}</b>
          <Code short>
            {new TextDecoder(label)
              .decode(raw)
              .replace(/\p{Cc}/gu, (c) => (c === '\t' || c === '\n' ? c : '·'))}
          </Code>
        </Item>
      ))}
    </Scroll>
  )
}
