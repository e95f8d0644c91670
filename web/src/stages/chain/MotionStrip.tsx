// A motion along its time: when feet stand on the ground, how fast the hips go,
// where keys are, how it would loop. A part of it is chosen with the mouse.
import { Button, styled } from '@mui/material'
import { useRef, useState, type PointerEvent } from 'react'
import type { S } from '../../api/http'
import { useMotion } from '../../api/scenes'
import { Fault } from '../../parts/bits'
import { count } from '../../parts/format'
import { Row } from '../../parts/Row'
import { Text } from '../../parts/Text'

const Frame = styled('div')({
  borderTop: '1px solid var(--line)',
  background: 'var(--panel)',
  padding: '8px 14px 10px',
  flex: 'none',
  '& .lanes': {
    display: 'grid',
    gridTemplateColumns: '92px minmax(0, 1fr)',
    columnGap: 10,
    alignItems: 'center',
    fontSize: 12,
    color: 'var(--soft)',
  },
  '& svg': {
    width: '100%',
    height: 132,
    display: 'block',
    cursor: 'crosshair',
    touchAction: 'none',
    userSelect: 'none',
  },
  '& .names': { display: 'grid', gridTemplateRows: '48px 24px 24px 18px 18px', alignItems: 'center' },
  '& .frame': { fill: 'none', stroke: 'var(--line)', vectorEffect: 'non-scaling-stroke' },
  '& .speed': { fill: 'none', stroke: 'var(--slate)', strokeWidth: 1.5, vectorEffect: 'non-scaling-stroke' },
  '& .foot': { fill: 'var(--verdi)' },
  '& .key': { stroke: 'var(--ink)', strokeWidth: 1, vectorEffect: 'non-scaling-stroke', opacity: 0.55 },
  '& .chosen': { fill: 'var(--verdi)', opacity: 0.16 },
  '& .now': { stroke: 'var(--iron)', strokeWidth: 1.5, vectorEffect: 'non-scaling-stroke' },
  '& .says': { marginTop: 6, minHeight: 32 },
  '& .tick': { stroke: 'var(--line)', vectorEffect: 'non-scaling-stroke' },
})

const W = 1000
const sides: Record<string, string> = {
  leftToes: 'left foot',
  leftFoot: 'left foot',
  rightToes: 'right foot',
  rightFoot: 'right foot',
}
const seconds = (t: number) => `${t.toFixed(2)} s`

export function MotionStrip({
  digest,
  motion,
  time,
  onTime,
  onStep,
}: {
  digest: string
  motion: number
  /** Where the model stands. */
  time: number
  onTime: (t: number) => void
  /** A step that works on the motion is tried. */
  onStep: (step: S['ChainStep']) => void
}) {
  const { data: m, error } = useMotion(digest, motion)
  const [range, setRange] = useState<[number, number]>()
  const from = useRef<number>(undefined)
  const svg = useRef<SVGSVGElement>(null)
  if (error) return <Fault error={error} />
  if (!m) return <Frame style={{ height: 196 }} />
  const x = (t: number) => (m.seconds > 0 ? (W * t) / m.seconds : 0)
  const at = (e: PointerEvent) => {
    const box = svg.current!.getBoundingClientRect()
    return Math.min(m.seconds, Math.max(0, ((e.clientX - box.left) / box.width) * m.seconds))
  }
  const fastest = Math.max(0.01, ...m.speed)
  const part = range && range[1] - range[0] > 0.01 ? range : undefined
  // A tick every tenth, half, second, five, …: not more than twenty.
  const every = [0.1, 0.5, 1, 5, 10, 60, 300].find((s) => m.seconds / s <= 20) ?? 600
  const ticks = Array.from({ length: Math.floor(m.seconds / every) + 1 }, (_, k) => k * every)
  const rounded = (t: number) => Math.round(t * 1000) / 1000
  return (
    <Frame data-strip={m.name}>
      <div className="lanes">
        <div className="names">
          <span title="how fast the hips go over the ground">{fastest.toFixed(2)} m/s</span>
          {m.feet.length > 0 ? (
            m.feet.map((f) => <span key={f.limb}>{sides[f.limb] ?? f.limb}</span>)
          ) : (
            <>
              <span>no feet told</span>
              <span />
            </>
          )}
          <span>{count(m.count)} keys</span>
          <span>{every < 1 ? `${every} s` : `${count(every)} s`}</span>
        </div>
        <svg
          ref={svg}
          viewBox={`0 0 ${W} 132`}
          preserveAspectRatio="none"
          role="img"
          aria-label={`${m.name}: ${m.feet
            .map((f) => `${sides[f.limb] ?? f.limb} on the ground ${count(f.touches.length)} times`)
            .join(', ')}`}
          onPointerDown={(e) => {
            e.currentTarget.setPointerCapture(e.pointerId)
            from.current = at(e)
            setRange(undefined)
            onTime(from.current)
          }}
          onPointerMove={(e) => {
            if (from.current === undefined) return
            const t = at(e)
            setRange([Math.min(from.current, t), Math.max(from.current, t)])
            onTime(t)
          }}
          onPointerUp={() => (from.current = undefined)}
        >
          <rect className="frame" x={0} y={0.5} width={W} height={47} />
          <polyline
            className="speed"
            points={m.speed
              .map((v, i) => `${((i + 0.5) * W) / m.speed.length},${(46 - (44 * v) / fastest).toFixed(1)}`)
              .join(' ')}
          />
          {m.feet.map((f, i) =>
            f.touches.map(([a, b]) => (
              <rect
                key={`${f.limb} ${a}`}
                className="foot"
                x={x(a)}
                y={53 + 24 * i}
                width={Math.max(2, x(b) - x(a))}
                height={14}
              />
            )),
          )}
          {m.keys.map((t) => (
            <line key={t} className="key" x1={x(t)} x2={x(t)} y1={98} y2={112} />
          ))}
          {ticks.map((t) => (
            <line key={t} className="tick" x1={x(t)} x2={x(t)} y1={116} y2={128} />
          ))}
          {part && (
            <rect className="chosen" x={x(part[0])} y={0} width={x(part[1]) - x(part[0])} height={132} />
          )}
          <line
            className="now"
            x1={x(Math.min(time, m.seconds))}
            x2={x(Math.min(time, m.seconds))}
            y1={0}
            y2={132}
          />
        </svg>
      </div>
      <Row between className="says">
        <Text tone="soft" small data-strip-says>
          {part
            ? `${seconds(part[0])} to ${seconds(part[1])}`
            : `${seconds(m.seconds)}${m.rate ? `, ${m.rate.toFixed(3).replace(/\.?0+$/, '')} keys a second` : ''}; ${
                m.seam < 0.5
                  ? 'it loops without a seam'
                  : `as a loop it has a seam of ${m.seam.toFixed(1)}° (${m.bone})`
              }. Drag to choose a part.`}
        </Text>
        <Row>
          {part && (
            <>
              <Button
                size="small"
                onClick={() =>
                  onStep({
                    step: 'keys',
                    with: { motion: m.name, from: rounded(part[0]), to: rounded(part[1]) },
                  })
                }
              >
                Cut to it
              </Button>
              <Button
                size="small"
                onClick={() =>
                  onStep({
                    step: 'clips',
                    with: {
                      split: [
                        {
                          motion: m.name,
                          name: `${m.name} part`,
                          from: rounded(part[0]),
                          to: rounded(part[1]),
                        },
                      ],
                    },
                  })
                }
              >
                A motion of its own
              </Button>
            </>
          )}
          {!part && m.seam >= 0.5 && (
            <Button
              size="small"
              onClick={() =>
                onStep({
                  step: 'keys',
                  with: { motion: m.name, loop: Math.min(0.3, rounded(m.seconds / 4)) },
                })
              }
            >
              Close the loop
            </Button>
          )}
        </Row>
      </Row>
    </Frame>
  )
}
