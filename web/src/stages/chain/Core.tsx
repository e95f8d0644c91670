// The core sample: what the asset is after each step, the newest on top. Bands
// far from the chosen one are thin strata once there are many. A band is dragged
// to another place with the mouse.
import { useEffect, useRef, useState } from 'react'
import type { S } from '../../api/http'
import { Text } from '../../parts/Text'
import { changes } from './Changed'

/** So many bands are all tall. */
const ALL_TALL = 7

export interface TrialBand {
  /** The band that it would lie on. */
  after: number
  title: string
  report?: S['StepTrial']
  busy: boolean
}

export function Core({
  bands,
  at,
  other,
  running,
  thumbOf,
  trial,
  onChoose,
  onMove,
}: {
  bands: S['Band'][]
  at: number
  other?: number
  running: boolean
  thumbOf: (band: number) => string | undefined
  trial?: TrialBand
  onChoose: (band: number, compare: boolean) => void
  onMove: (from: number, to: number) => void
}) {
  const dragged = useRef<number>(undefined)
  const [over, setOver] = useState<number>()
  const tall = (i: number) => bands.length <= ALL_TALL || Math.abs(i - at) <= 1 || i === other || i === 0
  const box = useRef<HTMLDivElement>(null)
  useEffect(() => {
    box.current?.querySelector(`[data-band="${at}"]`)?.scrollIntoView({ block: 'nearest' })
  }, [at, bands.length])
  const drop = (to: number) => {
    if (dragged.current !== undefined && dragged.current !== to && to > 0) onMove(dragged.current, to)
    dragged.current = undefined
    setOver(undefined)
  }
  return (
    <div className="core" role="listbox" aria-label="Core sample" ref={box}>
      {[...bands].reverse().flatMap((b) => {
        const picture = thumbOf(b.index)
        const band = (
          <button
            key={b.index}
            role="option"
            aria-selected={b.index === at}
            className={`band ${b.state} ${b.index === at ? 'on' : ''} ${b.index === other ? 'cmp' : ''} ${tall(b.index) ? '' : 'thin'} ${over === b.index ? 'over' : ''}`}
            data-band={b.index}
            data-state={b.state}
            data-key={b.key}
            data-title={b.title}
            draggable={b.index > 0}
            onDragStart={(e) => {
              e.dataTransfer.effectAllowed = 'move'
              e.dataTransfer.setData('text/plain', b.title)
              dragged.current = b.index
            }}
            onDragOver={(e) => {
              if (dragged.current === undefined || b.index === 0) return
              e.preventDefault()
              setOver(b.index)
            }}
            onDragEnd={() => {
              dragged.current = undefined
              setOver(undefined)
            }}
            onDrop={(e) => {
              e.preventDefault()
              drop(b.index)
            }}
            onClick={(e) => onChoose(b.index, e.shiftKey)}
            title={
              tall(b.index)
                ? 'Click to see this state, with Shift to compare it; drag it to another place'
                : `${b.title}: ${says(b, bands, running)}`
            }
          >
            <span className={`hatch ${b.family}`} />
            {tall(b.index) && (
              <span className="t">{picture && <img className="thumb" src={picture} alt="" />}</span>
            )}
            <span className="w">
              <Text as="b" clip>
                {b.index > 0 && `${b.index} `}
                {b.title}
              </Text>
              {tall(b.index) ? (
                <Says band={b} bands={bands} running={running} />
              ) : (
                (b.losses.length > 0 || b.spoiled) && <i className="lost" />
              )}
            </span>
            {other !== undefined && (b.index === at || b.index === other) && (
              <span className="k">{b.index === at ? 'A' : 'B'}</span>
            )}
          </button>
        )
        if (!trial || b.index !== trial.after) return [band]
        return [<Trial key="trial" {...trial} />, band]
      })}
    </div>
  )
}

/** A step that is only tried: it lies on its band until it is kept or let go. */
function Trial({ title, report, busy }: TrialBand) {
  return (
    <div className="band trial" data-trial={busy ? 'busy' : report?.error ? 'failed' : 'ready'}>
      <span className="hatch" />
      <span className="w">
        <Text as="b" clip>
          On trial: {title}
        </Text>
        {busy && <small>being computed…</small>}
        {!busy && report?.error && (
          <Text as="small" tone="bad" clip title={report.error}>
            {report.error}
          </Text>
        )}
        {!busy &&
          !report?.error &&
          [...(report?.lines ?? [])].slice(0, 2).map((l) => (
            <Text as="small" clip key={l} title={l}>
              {l}
            </Text>
          ))}
      </span>
    </div>
  )
}

const says = (b: S['Band'], bands: S['Band'][], running: boolean): string =>
  b.state === 'off'
    ? 'switched off'
    : b.state === 'failed'
      ? (b.error ?? 'failed')
      : b.state === 'waiting'
        ? running
          ? 'being computed…'
          : 'not computed'
        : [...changes(b, bands), ...b.losses].join(', ')

function Says({ band: b, bands, running }: { band: S['Band']; bands: S['Band'][]; running: boolean }) {
  if (b.state === 'failed')
    return (
      <Text as="small" tone="bad" clip title={b.error}>
        {b.error}
      </Text>
    )
  if (b.state !== 'ready') return <small>{says(b, bands, running)}</small>
  return (
    <>
      {changes(b, bands)
        .slice(0, 2)
        .map((l) => (
          <Text as="small" clip key={l}>
            {l}
          </Text>
        ))}
      {b.spoiled && (
        <Text as="small" tone="warn" clip title={b.spoiled.why}>
          belongs behind {b.spoiled.after} {bands[b.spoiled.after]?.title}
        </Text>
      )}
      {b.losses.map((l) => (
        <Text as="small" tone="warn" clip key={l} title={l}>
          {l}
        </Text>
      ))}
    </>
  )
}
