// Small shared pieces.
import { styled } from '@mui/material'
import type { ReactNode } from 'react'
import { ApiError, type S } from '../api/http'
import { count, metres } from './format'
import { FactGrid } from './Facts'
import { Item } from './Item'
import { Tag } from './Tag'
import { Text } from './Text'

const Frame = styled('div')({
  margin: '10px 18px',
  padding: '8px 12px',
  border: '1px solid var(--ironL)',
  background: 'var(--ironT)',
  color: 'var(--iron)',
  fontSize: 13,
  overflowWrap: 'anywhere',
})

export function Fault({ error }: { error: unknown }) {
  if (!error) return null
  const e = error as Partial<ApiError>
  return (
    <Frame role="alert">
      {e.message ?? 'It failed, and nothing says why.'}
      {e.at && !e.message?.includes(e.at) && <> ({e.at})</>}
    </Frame>
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
    <FactGrid>
      {rows.map(([k, v]) => [
        <span key={k}>{k}</span>,
        <div key={k + 'v'} data-figure={k}>
          {v}
        </div>,
      ])}
    </FactGrid>
  )
}

/** Pictures of a model: where each was found, or where it was looked for. */
export function Pictures({ list, bind }: { list: S['Picture'][]; bind?: (ref: string) => ReactNode }) {
  if (list.length === 0) return <Item className="soft">It asks for no pictures.</Item>
  return (
    <>
      {list.map((p, i) => (
        <Item key={i} data-picture={p.name}>
          {p.missing ? (
            <>
              <Text tone="warn">{p.name}</Text> not found
              {p.looked.map((l) => (
                <small key={l}>looked for {l}</small>
              ))}
              {p.in && bind ? (
                bind(p.in)
              ) : (
                <Text as="small" tone="good">
                  Add the source that holds it; it is then found by itself.
                </Text>
              )}
            </>
          ) : (
            <>
              {p.name} <Tag tone="good">{p.how || 'inside the file'}</Tag>
              <small>
                {p.found}
                {p.width ? ` · ${p.width} × ${p.height} texels` : ''}
              </small>
            </>
          )}
          {p.materials?.map((m) => (
            <small key={m}>{m}</small>
          ))}
        </Item>
      ))}
    </>
  )
}
