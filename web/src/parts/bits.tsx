// Small shared pieces.
import type { ReactNode } from 'react'
import { ApiError, type S } from '../api/http'
import { count, metres } from './format'

export function Fault({ error }: { error: unknown }) {
  if (!error) return null
  const e = error as Partial<ApiError>
  return (
    <div className="fault" role="alert">
      {e.message ?? String(error)}
      {e.at && !e.message?.includes(e.at) && <> ({e.at})</>}
    </div>
  )
}

/** Why a model has no height in metres. */
export const unmeasured = (stats: S['Stats']) =>
  stats.vertices === 0 ? 'nothing to measure' : stats.size ? 'up unknown' : 'unit unknown'

/** The figures of a model, in metres where the unit is known. */
export function Figures({ stats, basis }: { stats: S['Stats']; basis?: S['Basis'] }) {
  const rows: [string, string][] = [
    ['Triangles', count(stats.triangles)],
    ['Vertices', count(stats.vertices)],
    ['Bones', count(stats.bones)],
    ['Materials', count(stats.materials)],
    [
      'Pictures',
      stats.missing ? `${stats.pictures - stats.missing} of ${stats.pictures} found` : count(stats.pictures),
    ],
    ['Height', stats.height != null ? metres(stats.height) : unmeasured(stats)],
    [
      'Size X × Y × Z',
      stats.size
        ? stats.size.every((v) => v >= 0.1 && v < 100)
          ? stats.size.map((v) => v.toFixed(2)).join(' × ') + ' m'
          : stats.size.map(metres).join(' × ')
        : unmeasured(stats),
    ],
    ['UV sets', count(stats.uvSets)],
    ['Motions', count(stats.motions)],
    ['Cameras', count(stats.cameras)],
    ['Helper nodes', count(stats.helpers)],
  ]
  if (basis) rows.push(['Basis', basis.text])
  return (
    <div className="facts">
      {rows.map(([k, v]) => [
        <span key={k}>{k}</span>,
        <div key={k + 'v'} data-figure={k}>
          {v}
        </div>,
      ])}
    </div>
  )
}

/** Pictures of a model: where each was found, or where it was looked for. */
export function Pictures({ list, bind }: { list: S['Picture'][]; bind?: (ref: string) => ReactNode }) {
  if (list.length === 0) return <div className="item soft">It asks for no pictures.</div>
  return (
    <>
      {list.map((p, i) => (
        <div className="item" key={i} data-picture={p.name}>
          {p.missing ? (
            <>
              <span className="warn">{p.name}</span> not found
              {p.looked.map((l) => (
                <small key={l}>looked for {l}</small>
              ))}
              {p.in && bind ? (
                bind(p.in)
              ) : (
                <small className="ok">Add the source that holds it; it is then found by itself.</small>
              )}
            </>
          ) : (
            <>
              {p.name} <span className="tag g">{p.how || 'inside the file'}</span>
              <small>
                {p.found}
                {p.width ? ` · ${p.width} × ${p.height} texels` : ''}
              </small>
            </>
          )}
          {p.materials?.map((m) => (
            <small key={m}>{m}</small>
          ))}
        </div>
      ))}
    </>
  )
}
