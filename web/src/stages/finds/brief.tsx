// What the grid and the list say of a find in a line.
import type { S } from '../../api/http'
import { count, metres, plural } from '../../parts/format'
import { Tone } from '../../parts/Tone'

export const figuresOf = (x: S['Brief']) =>
  x.state === 'ready'
    ? `${plural(x.triangles, 'triangle')}${x.height != null ? ` · ${metres(x.height)}` : ''}`
    : ''

/** What state a find is in, and what is missing. */
export function StateOf({ x }: { x: S['Brief'] }) {
  if (x.state === 'decoding') return <Tone is="soft">being decoded</Tone>
  if (x.state === 'failed')
    return (
      <span title={x.error}>
        <Tone is="bad">cannot be decoded</Tone>
      </span>
    )
  if (x.state === 'stopped')
    return (
      <span title={x.error}>
        <Tone is="warn">not decoded</Tone>
      </span>
    )
  if (x.missing > 0) return <Tone is="warn">{plural(x.missing, 'picture')} missing</Tone>
  return <Tone is="good">complete</Tone>
}

export const shownOf = (shown: number, all: number) =>
  shown === all ? plural(all, 'asset') : `${count(shown)} of ${count(all)}`
