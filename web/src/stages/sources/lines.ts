// The lines of the entry table, asked for in pages as they come into view.
import { keepPreviousData, useQueries, useQuery, useQueryClient } from '@tanstack/react-query'
import { useVirtualizer } from '@tanstack/react-virtual'
import type { RefObject } from 'react'
import { entryKeys, entryPage, outline, sets, type Sort } from '../../api/entries'
import type { S } from '../../api/http'

const PAGE = 200
export const LINE = 29 // pixels

export type Line =
  | { is: 'entry'; entry: S['Entry']; depth: number; name?: string }
  | {
      is: 'folder'
      folder: string
      name: string
      depth: number
      open: boolean
      entries: number
      bytes: number
    }
  | { is: 'set'; set: S['SetPage']['sets'][number] }

interface Page {
  total: number
  all: number
  kinds?: Record<string, number>
  milliseconds: number
  bytes?: number
  at?: number
  lines: Line[]
}

/** What is listed, and how. */
export interface Listing {
  project: number
  filter: S['Filter']
  view: string // flat, tree or sets
  sort: string
  open: string // folders of the tree, with | between them; * is all
}

export const foldersOf = (open: string) => (open ? open.split('|') : [])

/** A line's name among all lines. */
export const keyOf = (l?: Line) =>
  !l ? '' : l.is === 'entry' ? `e${l.entry.id}` : l.is === 'folder' ? `f${l.folder}` : `s${l.set.key}`

const outlineLine = (l: Awaited<ReturnType<typeof outline>>['lines'][number]): Line =>
  l.entry
    ? { is: 'entry', entry: l.entry, depth: l.depth, name: l.name }
    : {
        is: 'folder',
        folder: l.folder!,
        name: l.name,
        depth: l.depth,
        open: !!l.open,
        entries: l.entries!,
        bytes: l.bytes!,
      }

async function fetchPage(
  x: Listing,
  page: number,
  at: number | undefined,
  signal: AbortSignal,
): Promise<Page> {
  const q = { ...x.filter, offset: page * PAGE, limit: PAGE }
  if (x.view === 'tree') {
    const o = await outline(x.project, { ...q, open: foldersOf(x.open) }, signal)
    return { ...o, lines: o.lines.map(outlineLine) }
  }
  if (x.view === 'sets') {
    const s = await sets(x.project, q, signal)
    return { ...s, lines: s.sets.map((set) => ({ is: 'set', set })) }
  }
  const e = await entryPage(x.project, { ...q, sort: (x.sort || undefined) as Sort | undefined, at }, signal)
  return { ...e, lines: e.entries.map((entry) => ({ is: 'entry', entry, depth: 0 })) }
}

const pageQuery = (x: Listing, page: number, at?: number) => ({
  queryKey: entryKeys.page(
    x.project,
    x.view,
    JSON.stringify(x.filter),
    x.view === 'tree' ? x.open : x.sort,
    page,
    at ?? 0,
  ),
  queryFn: ({ signal }: { signal: AbortSignal }) => fetchPage(x, page, at, signal),
})

/** The lines that are in view, and how to reach the others. */
export function useLines(x: Listing, scroll: RefObject<HTMLElement | null>) {
  const client = useQueryClient()
  const first = useQuery({ ...pageQuery(x, 0), placeholderData: keepPreviousData })
  const total = first.data?.total ?? 0
  const rows = useVirtualizer({
    count: total,
    getScrollElement: () => scroll.current,
    estimateSize: () => LINE,
    overscan: 12,
  })
  const seen = rows.getVirtualItems()
  const pages = [...new Set(seen.map((r) => Math.floor(r.index / PAGE)))].filter((p) => p > 0)
  const more = useQueries({ queries: pages.map((p) => pageQuery(x, p)) })
  const page = (p: number) =>
    p === 0
      ? first.data
      : (more[pages.indexOf(p)]?.data ?? client.getQueryData<Page>(pageQuery(x, p).queryKey))
  return {
    first,
    total,
    rows,
    seen,
    /** Line i, once it is there. */
    at: (i: number) => page(Math.floor(i / PAGE))?.lines[i % PAGE],
    /** Lines a to b, fetched where they are not there yet. */
    between: async (a: number, b: number) => {
      const out: Line[] = []
      for (let p = Math.floor(a / PAGE); p <= Math.floor(b / PAGE); p++) {
        const got = await client.fetchQuery({ ...pageQuery(x, p), staleTime: 5_000 })
        got.lines.forEach((l, i) => {
          if (p * PAGE + i >= a && p * PAGE + i <= b) out.push(l)
        })
      }
      return out
    },
    /** The place of an entry in the list, -1 if it is not listed. */
    placeOf: async (entry: number) => (await client.fetchQuery(pageQuery(x, 0, entry))).at ?? -1,
  }
}
export type Lines = ReturnType<typeof useLines>
