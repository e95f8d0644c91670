// Which finds are shown, in what order: the address says it, so that the grid
// and the list beside a find show the same ones.
import { useMemo } from 'react'
import { useGallery } from '../../api/finds'
import type { S } from '../../api/http'
import { useAddress } from '../../parts/address'
import { useHeld } from '../../parts/hooks'
import { readNumber } from '../../parts/number'

type Brief = S['Brief']

export const sorts: [string, string, (a: Brief, b: Brief) => number][] = [
  ['', 'in their order', (a, b) => a.id - b.id],
  ['name', 'by name', (a, b) => a.name.localeCompare(b.name)],
  ['triangles', 'most triangles', (a, b) => b.triangles - a.triangles],
  ['source', 'by source', (a, b) => a.source.localeCompare(b.source) || a.path.localeCompare(b.path)],
  ['height', 'tallest', (a, b) => (b.height ?? -1) - (a.height ?? -1)],
  ['short', 'shortest', (a, b) => (a.height ?? Infinity) - (b.height ?? Infinity)],
  ['pictures', 'most pictures', (a, b) => b.pictures - a.pictures],
  ['motions', 'most motions', (a, b) => b.motions - a.motions],
  ['bones', 'most bones', (a, b) => b.bones - a.bones],
  ['missing', 'most missing', (a, b) => b.missing - a.missing],
]

export const states: [string, string, (x: Brief) => boolean][] = [
  ['', 'all states', () => true],
  ['incomplete', 'incomplete', (x) => x.missing > 0],
  ['complete', 'complete', (x) => x.state === 'ready' && x.missing === 0],
  ['failed', 'cannot be decoded', (x) => x.state === 'failed'],
  ['stopped', 'not decoded', (x) => x.state === 'stopped'],
  ['rigged', 'with bones', (x) => x.bones > 0],
  ['moving', 'with motions', (x) => x.motions > 0],
]

/** Figures that may be bounded from below and above. */
export const figures: [string, string, (x: Brief) => number | undefined][] = [
  ['', 'any size', () => 0],
  ['triangles', 'triangles from … to', (x) => x.triangles],
  ['height', 'metres tall from … to', (x) => x.height],
  ['bones', 'bones from … to', (x) => x.bones],
  ['pictures', 'pictures from … to', (x) => x.pictures],
  ['missing', 'missing from … to', (x) => x.missing],
  ['motions', 'motions from … to', (x) => x.motions],
]

/** A bound that is typed and is no number. */
export const unread = (bound: string) => bound !== '' && readNumber(bound) === undefined

export interface Filtered {
  /** All finds of the project. */
  all?: Brief[]
  /** Those that are shown, in order. */
  list: Brief[]
  error: unknown
  fetching: boolean
  words: string
  setWords: (t: string) => void
  by: string
  only: string
  of: string
  from: string
  to: string
  put: (o: Record<string, string>) => void
  clear: () => void
}

export function useFiltered(project: number): Filtered {
  const { data, error, isFetching } = useGallery(project)
  const [params, put] = useAddress()
  const typed = params.get('q') ?? ''
  const [words, setWords] = useHeld(typed, (q) => put({ q }))
  const get = (k: string) => params.get(k) ?? ''
  const [by, only, of, from, to] = ['by', 'only', 'of', 'from', 'to'].map(get)
  const list = useMemo(() => {
    const text = words.toLowerCase()
    const keep = states.find(([k]) => k === only)?.[2] ?? (() => true)
    const figure = of ? figures.find(([k]) => k === of)?.[2] : undefined
    const least = readNumber(from) ?? -Infinity
    const most = readNumber(to) ?? Infinity
    const within = (x: Brief) => {
      const v = figure?.(x)
      return !figure || (v !== undefined && v >= least && v <= most)
    }
    const says = (x: Brief) => !text || `${x.name} ${x.path} ${x.source}`.toLowerCase().includes(text)
    return (data ?? [])
      .filter((x) => keep(x) && within(x) && says(x))
      .sort(sorts.find(([k]) => k === by)?.[2])
  }, [data, words, by, only, of, from, to])
  const clear = () => {
    setWords('')
    put({ q: '', only: '', of: '', from: '', to: '' })
  }
  return { all: data, list, error, fetching: isFetching, words, setWords, by, only, of, from, to, put, clear }
}
