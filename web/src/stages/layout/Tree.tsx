// The fields that a layout read, as a tree.
import { useEffect, useRef, useState, type ReactNode } from 'react'
import type { S } from '../../api/http'
import { count } from '../../parts/format'
import { Text } from '../../parts/Text'

type Piece = S['Piece']

/** The field that a line of the layout describes. */
export function pieceOfLine(list: Piece[], line: number): Piece | undefined {
  for (const p of list) {
    if (p.line === line && !p.in) return p
    const in_ = pieceOfLine(p.pieces ?? [], line)
    if (in_) return in_
  }
}

/** The fields as a tree; the innermost that holds the chosen byte is marked and shown. */
export function Tree({
  pieces,
  sel,
  onChoose,
}: {
  pieces: Piece[]
  sel: { at: number; n: number }
  onChoose: (p: Piece) => void
}) {
  const [shut, setShut] = useState<Record<string, boolean>>({})
  const holds = (p: Piece) => !p.in && sel.at >= p.at && sel.at < p.at + p.size
  // The way to the chosen byte.
  const way = new Set<string>()
  let last = ''
  const find = (list: Piece[], path: string) => {
    const k = list.findIndex(holds)
    if (k < 0) return
    const here = `${path}/${k}`
    way.add(here)
    last = here
    find(list[k].pieces ?? [], here)
  }
  find(
    pieces.filter((p) => p.name !== 'used as'),
    '',
  )
  const box = useRef<HTMLDivElement>(null)
  useEffect(() => {
    box.current?.querySelector('.on')?.scrollIntoView({ block: 'nearest' })
  }, [last, sel.at])
  const rows: ReactNode[] = []
  const draw = (list: Piece[], path: string, deep: number) =>
    list.forEach((p, k) => {
      const here = `${path}/${k}`
      const inner = p.pieces ?? []
      const open =
        inner.length > 0 &&
        (shut[here] === undefined
          ? (deep === 0 && inner.length <= 64 && p.name !== 'used as') || way.has(here) || !!p.error
          : !shut[here])
      rows.push(
        <div
          key={here}
          className={`leaf ${here === last ? 'on' : ''} ${p.error ? 'is-bad' : ''}`}
          role="treeitem"
          aria-selected={here === last}
          aria-level={deep + 1}
          aria-expanded={inner.length ? open : undefined}
          tabIndex={0}
          data-piece={p.name}
          onClick={() => onChoose(p)}
          onKeyDown={(e) => {
            if (e.key === 'Enter') onChoose(p)
            if (e.key === 'ArrowRight') setShut({ ...shut, [here]: false })
            if (e.key === 'ArrowLeft') setShut({ ...shut, [here]: true })
            if (e.key === 'ArrowDown') {
              e.preventDefault()
              ;(e.currentTarget.nextElementSibling as HTMLElement)?.focus()
            }
            if (e.key === 'ArrowUp') {
              e.preventDefault()
              ;(e.currentTarget.previousElementSibling as HTMLElement)?.focus()
            }
          }}
        >
          <span style={{ paddingLeft: 4 + 12 * deep }}>
            {inner.length > 0 ? (
              <button
                className="fold"
                aria-label={open ? 'Close' : 'Open'}
                tabIndex={-1}
                onClick={(e) => {
                  e.stopPropagation()
                  setShut({ ...shut, [here]: open })
                }}
              >
                {open ? '▾' : '▸'}
              </button>
            ) : (
              <span className="fold" />
            )}
            <b title={p.name}>{p.name}</b>
          </span>
          <Text tone="soft" title={p.type}>
            {p.type}
          </Text>
          <span className="v" title={p.value}>
            {p.error ? '' : (p.value ?? (path.includes('/') && !p.count ? inner[0]?.value : ''))}
          </span>
          <Text tone="soft" className="n">
            {p.in ? `${p.in} ` : ''}
            {p.name === 'used as' ? '' : p.at.toString(16)}
          </Text>
          <Text tone="soft" className="n">
            {p.name === 'used as' ? '' : count(p.size)}
          </Text>
        </div>,
      )
      if (p.error)
        rows.push(
          <div key={here + 'e'} className="leaf small bad" style={{ paddingLeft: 24 + 14 * deep }}>
            {p.error}
          </div>,
        )
      if (!open) return
      if (p.first)
        rows.push(
          <div key={here + 'a'} className="leaf soft small" style={{ paddingLeft: 24 + 14 * deep }}>
            {count(p.first)} before
          </div>,
        )
      draw(inner, here, deep + 1)
      const after = (p.count ?? 0) - (p.first ?? 0) - inner.length
      if (p.count && after > 0)
        rows.push(
          <div key={here + 'z'} className="leaf soft small" style={{ paddingLeft: 24 + 14 * deep }}>
            {count(after)} more; choose a byte among them to see it
          </div>,
        )
    })
  draw(pieces, '', 0)
  return (
    <div className="tree" ref={box} role="tree" aria-label="Fields">
      <div className="leaf th">
        <span style={{ paddingLeft: 20 }}>Field</span>
        <span>Type</span>
        <span className="v">Value</span>
        <span className="n">At, hex</span>
        <span className="n">Bytes</span>
      </div>
      {rows}
    </div>
  )
}
