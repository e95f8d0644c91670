// What a step changed, in figures.
import { Table, TableBody, TableCell, TableHead, TableRow } from '@mui/material'
import type { S } from '../../api/http'
import { Body } from '../../parts/Body'
import { unmeasured } from '../../parts/bits'
import { count, metres, plural } from '../../parts/format'

/** How tall the asset is, as the view reads it. */
export function height(b: S['Band'], bare: boolean): string {
  if (!b.stats) return ''
  if (!bare) return b.stats.height != null ? `${metres(b.stats.height)} tall` : unmeasured(b.stats)
  const tall = b.stats.max[1] - b.stats.min[1]
  const low = b.stats.min[1]
  return `${metres(tall)} tall${Math.abs(low) < 0.0015 ? ', on the ground' : ''}`
}

const figures: [keyof S['Stats'], string][] = [
  ['triangles', 'triangles'],
  ['vertices', 'vertices'],
  ['parts', 'parts'],
  ['nodes', 'nodes'],
  ['bones', 'bones'],
  ['materials', 'materials'],
  ['pictures', 'pictures'],
  ['cameras', 'cameras'],
  ['lights', 'lights'],
  ['colliders', 'colliders'],
  ['helpers', 'helpers'],
  ['motions', 'motions'],
]

/** Figures that are left out where there are none. */
const rare = new Set<keyof S['Stats']>(['lights', 'colliders'])

/** The two lines of a band that say most. */
export function changes(b: S['Band'], bands: S['Band'][]): string[] {
  if (b.index === 0)
    return [
      ...b.lines,
      b.stats
        ? `${plural(b.stats.triangles, 'triangle')}${b.stats.height != null ? ` · ${metres(b.stats.height)}` : ''}`
        : '',
    ]
  let below: S['Band'] | undefined
  for (let k = b.index - 1; k >= 0 && !below; k--)
    if (bands[k].stats && bands[k].state === 'ready') below = bands[k]
  const diff =
    below?.stats && b.stats
      ? figures
          .filter(([k]) => below.stats![k] !== b.stats![k])
          .map(([k, n]) => `${n} ${count(below.stats![k] as number)} → ${count(b.stats![k] as number)}`)
      : []
  return [...b.lines, ...diff.filter((d) => !b.lines.some((l) => l.startsWith(d.split(' ')[0])))]
}

export function Changed({ band, before }: { band: S['Band']; before?: S['Band'] }) {
  if (!band.stats)
    return (
      <Body className="soft">
        {band.state === 'off'
          ? 'The step is switched off; the state is that of the band below.'
          : 'Not computed yet.'}
      </Body>
    )
  const a = band.index > 0 ? before?.stats : undefined
  const size = (s?: S['Stats']) => (s?.height != null ? metres(s.height) : '–')
  return (
    <Table size="small">
      <TableHead>
        <TableRow>
          <TableCell />
          {a && <TableCell align="right">before</TableCell>}
          <TableCell align="right">{a ? 'after' : ''}</TableCell>
        </TableRow>
      </TableHead>
      <TableBody>
        {figures
          .filter(([k]) => !rare.has(k) || band.stats![k] !== 0 || (a?.[k] ?? 0) !== 0)
          .map(([k, name]) => {
            const changed = a && a[k] !== band.stats![k]
            return (
              <TableRow key={k} data-figure={name}>
                <TableCell>{name[0].toUpperCase() + name.slice(1)}</TableCell>
                {a && <TableCell align="right">{count(a[k] as number)}</TableCell>}
                <TableCell align="right" className={changed ? 'ok' : undefined}>
                  {count(band.stats![k] as number)}
                </TableCell>
              </TableRow>
            )
          })}
        <TableRow>
          <TableCell>Height</TableCell>
          {a && <TableCell align="right">{size(a)}</TableCell>}
          <TableCell align="right">{size(band.stats)}</TableCell>
        </TableRow>
        <TableRow data-figure="basis">
          <TableCell>Basis</TableCell>
          <TableCell align="right" colSpan={a ? 2 : 1} className="whole">
            {band.basis?.text}
          </TableCell>
        </TableRow>
      </TableBody>
    </Table>
  )
}
