// Pages with the pieces of a model, as they are printed. Lines can be clicked.
import { styled } from '@mui/material'
import { useMemo, useState, type KeyboardEvent } from 'react'
import type { S } from '../../api/http'
import { paperGround, type PaperOptions } from '../../api/scenes'

type Sheet = S['PaperSheet']

const Page = styled('figure')({
  position: 'relative',
  margin: '14px auto',
  width: 'min(92%, 760px)',
  background: '#fff',
  boxShadow: '0 0 0 1px var(--line)',
  contentVisibility: 'auto',
  '& img': { position: 'absolute', inset: 0, width: '100%', height: '100%' },
  '& svg': { position: 'relative', display: 'block', width: '100%' },
  '& figcaption': { position: 'absolute', right: 8, bottom: 4, fontSize: 11, color: '#555' },
  '& .faces': { fill: 'none' },
  '& .tabs': { fill: 'none', stroke: '#777', strokeWidth: 0.2 },
  '& .line': { stroke: '#000', strokeWidth: 0.3 },
  '& .mountain': { strokeDasharray: '3 .8 .4 .8' },
  '& .valley': { strokeDasharray: '1.6 1' },
  '& .by-hand': { stroke: 'var(--iron)', strokeWidth: 0.7 },
  '& .touch': { stroke: 'transparent', strokeWidth: 3, cursor: 'pointer' },
  '& .touch:hover, & .touch.at': { stroke: 'var(--verdi)', strokeOpacity: 0.35 },
  '& .touch.at': { strokeOpacity: 0.7 },
  '&:focus-visible': { outline: '2px solid var(--slate)', outlineOffset: 2 },
  '& text': {
    textAnchor: 'middle',
    fill: '#222',
    stroke: '#fff',
    strokeWidth: '.2em',
    paintOrder: 'stroke',
    pointerEvents: 'none',
  },
})

const words = { cut: 'cut', mountain: 'folded back', valley: 'folded forward' }

/** The pieces of a page, and which of its lines that can be chosen each of theirs is. */
function numbered(pieces: Sheet['pieces'], sheet: Sheet) {
  let next = 0
  return pieces.map((piece) => ({
    piece,
    first: piece.lines.map((l) => (sheet.edges[l.edge].open ? -1 : next++)),
  }))
}

export function Sheets({
  scene,
  sheet,
  options,
  onEdge,
}: {
  scene: string
  sheet: Sheet
  options: PaperOptions
  onEdge: (e: S['PaperEdge']) => void
}) {
  const pages = useMemo(
    () => Array.from({ length: sheet.pages }, (_, i) => sheet.pieces.filter((p) => p.page === i)),
    [sheet],
  )
  const hand = new Set([...(options.cut ?? '').split(','), ...(options.join ?? '').split(',')])
  // By keyboard: the arrows go from line to line of a page, Enter cuts or folds.
  const [chosen, setChosen] = useState({ page: -1, line: 0 })
  const onKey = (e: KeyboardEvent, page: number) => {
    const lines = pages[page].flatMap((p) => p.lines).filter((l) => !sheet.edges[l.edge].open)
    const by = { ArrowRight: 1, ArrowDown: 1, ArrowLeft: -1, ArrowUp: -1 }[e.key]
    const now = chosen.page === page ? chosen.line : -1
    if (by && lines.length > 0) {
      e.preventDefault()
      setChosen({ page, line: (Math.max(now, by > 0 ? -1 : 0) + by + lines.length) % lines.length })
    } else if ((e.key === 'Enter' || e.key === ' ') && lines[now]) {
      e.preventDefault()
      onEdge(sheet.edges[lines[now].edge])
    }
  }
  return pages.map((pieces, i) => (
    <Page
      key={i}
      tabIndex={0}
      role="group"
      onKeyDown={(e) => onKey(e, i)}
      data-page={i + 1}
      style={{ aspectRatio: `${sheet.width} / ${sheet.height}` }}
      aria-label={`Page ${i + 1} of ${sheet.pages}`}
    >
      {sheet.coloured && <img loading="lazy" src={paperGround(scene, options, i)} alt="" />}
      <svg viewBox={`0 0 ${sheet.width} ${sheet.height}`}>
        {numbered(pieces, sheet).map(({ piece: p, first }, k) => (
          <g key={k} data-piece>
            <path className="faces" d={p.faces} />
            <path className="tabs" d={p.tabs} />
            {p.lines.map((l, n) => {
              const e = sheet.edges[l.edge]
              const at = { x1: l.a[0], y1: l.a[1], x2: l.b[0], y2: l.b[1] }
              return (
                <g key={n}>
                  <line className={`line ${l.kind} ${hand.has(e.key) ? 'by-hand' : ''}`} {...at} />
                  {!e.open && (
                    <line
                      className={`touch ${chosen.page === i && chosen.line === first[n] ? 'at' : ''}`}
                      data-line={l.kind}
                      onClick={() => onEdge(e)}
                      {...at}
                    >
                      <title>
                        {`${words[l.kind]}, ${e.length.toFixed(1)} mm, ${Math.abs(Math.round(e.angle))}°`}
                      </title>
                    </line>
                  )}
                  {l.number > 0 && (
                    <text
                      x={l.at[0]}
                      y={l.at[1]}
                      fontSize={l.size}
                      transform={`rotate(${l.turn} ${l.at[0]} ${l.at[1]})`}
                    >
                      {l.number}
                    </text>
                  )}
                </g>
              )
            })}
          </g>
        ))}
      </svg>
      <figcaption>
        {i + 1} of {sheet.pages}
      </figcaption>
    </Page>
  ))
}
