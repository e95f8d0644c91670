// The core sample: what the asset is after each step, the newest on top. Bands
// far from the chosen one are thin strata once there are many. Steps in a row
// that are one group fold into one stratum. A band is dragged to another place
// with the mouse.
import { useEffect, useRef, useState } from 'react'
import type { S } from '../../api/http'
import { plural } from '../../parts/format'
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
  folded,
  onFold,
  onChoose,
  onMove,
}: {
  bands: S['Band'][]
  at: number
  other?: number
  running: boolean
  thumbOf: (band: number) => string | undefined
  trial?: TrialBand
  /** The first bands of the groups that are folded. */
  folded: number[]
  onFold: (first: number) => void
  onChoose: (band: number, compare: boolean) => void
  onMove: (from: number, to: number) => void
}) {
  const dragged = useRef<number>(undefined)
  const [over, setOver] = useState<number>()
  const tall = (i: number) => bands.length <= ALL_TALL || Math.abs(i - at) <= 1 || i === other || i === 0
  const groups = groupsOf(bands)
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
        const group = groups.find((g) => g.first <= b.index && b.index <= g.last)
        const shut = !!group && folded.includes(group.first)
        const head = group?.last === b.index && (
          <Group
            key={`group ${group.first}`}
            {...group}
            bands={bands}
            running={running}
            shut={shut}
            on={shut && group.first <= at && at <= group.last}
            onFold={() => onFold(group.first)}
          />
        )
        if (shut && b.index !== at && b.index !== other && trial?.after !== b.index) return head ? [head] : []
        const picture = thumbOf(b.index)
        const band = (
          <button
            key={b.index}
            role="option"
            aria-selected={b.index === at}
            className={`band ${b.state} ${b.index === at ? 'on' : ''} ${b.index === other ? 'cmp' : ''} ${tall(b.index) ? '' : 'thin'} ${over === b.index ? 'over' : ''} ${group ? 'within' : ''}`}
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
        const list = trial && b.index === trial.after ? [<Trial key="trial" {...trial} />, band] : [band]
        return head ? [head, ...list] : list
      })}
    </div>
  )
}

interface StepGroup {
  name: string
  first: number
  last: number
}

/** Steps in a row of one name are a group. */
function groupsOf(bands: S['Band'][]): StepGroup[] {
  const out: StepGroup[] = []
  for (const b of bands) {
    const name = b.step?.group
    if (!name) continue
    const last = out[out.length - 1]
    if (last?.name === name && last.last === b.index - 1) last.last = b.index
    else out.push({ name, first: b.index, last: b.index })
  }
  return out
}

/** The line over a group's bands, by which it folds. */
function Group({
  name,
  first,
  last,
  bands,
  running,
  shut,
  on,
  onFold,
}: StepGroup & {
  bands: S['Band'][]
  running: boolean
  shut: boolean
  on: boolean
  onFold: () => void
}) {
  const list = bands.slice(first, last + 1)
  const failed = list.some((b) => b.state === 'failed')
  const lost = list.some((b) => b.losses.length > 0 || b.spoiled)
  const top = list[list.length - 1]
  // What it comes to from the band below it to its last.
  const sum =
    top.state === 'ready'
      ? changes({ ...top, lines: [], index: 1 }, [bands[first - 1], top])
          .slice(0, 2)
          .join(', ')
      : says(top, bands, running)
  return (
    <button
      className={`group ${shut ? 'shut' : ''} ${on ? 'on' : ''}`}
      aria-expanded={!shut}
      data-group={name}
      onClick={onFold}
      title={shut ? 'Show its steps' : 'Fold its steps'}
    >
      <i className="fold" aria-hidden />
      <Text as="b" clip>
        {name}
      </Text>
      <Text as="small" tone={failed ? 'bad' : undefined} clip>
        {plural(list.length, 'step')}
        {shut && sum && ` · ${sum}`}
      </Text>
      {(lost || failed) && shut && <i className="lost" />}
    </button>
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
