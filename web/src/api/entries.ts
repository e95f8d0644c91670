// Entries: the table of all that the sources hold, what one is, its bytes.
import { keepPreviousData, queryOptions, useQuery } from '@tanstack/react-query'
import { api, ApiError, forever, ok, type S } from './http'

const of = (entry: number) => ({ params: { path: { entry } } })

export const entryKeys = {
  page: (project: number, ...what: unknown[]) => ['p', project, 'entries', ...what] as const,
  named: (project: number, text: string) => ['p', project, 'named', text] as const,
  preview: (project: number, entry: number) => ['p', project, 'preview', entry] as const,
  bytes: (entry: number, first: number, last: number) => ['bytes', entry, first, last] as const,
  strip: (entry: number, from?: number, span?: number) => ['strip', entry, from, span] as const,
  bookmarks: (project: number, entry: number) => ['p', project, 'bookmarks', entry] as const,
}

export type Sort = 'order' | 'path' | 'size' | 'kind' | '-path' | '-size' | '-kind'
export type Paged = S['Filter'] & { offset: number; limit: number }

export const entryPage = (
  project: number,
  query: Paged & { sort?: Sort; at?: number },
  signal: AbortSignal,
) => ok(api.GET('/api/projects/{project}/entries', { params: { path: { project }, query }, signal }))
export const outline = (project: number, query: Paged & { open: string[] }, signal: AbortSignal) =>
  ok(api.GET('/api/projects/{project}/outline', { params: { path: { project }, query }, signal }))
export const sets = (project: number, query: Paged, signal: AbortSignal) =>
  ok(api.GET('/api/projects/{project}/sets', { params: { path: { project }, query }, signal }))

/** The first entries that have a text in their path, once it has two letters. */
export const useNamedEntries = (project: number, text: string, limit: number, on = true) =>
  useQuery({
    queryKey: entryKeys.named(project, text),
    enabled: on && text.length > 1,
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) =>
      ok(
        api.GET('/api/projects/{project}/entries', {
          params: { path: { project }, query: { q: text, limit } },
          signal,
        }),
      ),
  })

export const previewOf = (project: number, entry: number) =>
  queryOptions({
    queryKey: entryKeys.preview(project, entry),
    staleTime: 20_000,
    queryFn: ({ signal }) => ok(api.GET('/api/entries/{entry}/preview', { ...of(entry), signal })),
  })
export const usePreview = (project: number, entry?: number) =>
  useQuery({ ...previewOf(project, entry ?? 0), enabled: !!entry })

export const pictureUrl = (entry: number, show = 'all') => `/api/entries/${entry}/picture?show=${show}`
export const contentUrl = (entry: number) => `/api/entries/${entry}/content`

/** A part of an entry's bytes. */
export async function content(entry: number, from: number, to: number, signal?: AbortSignal) {
  const r = await fetch(contentUrl(entry), { headers: { Range: `bytes=${from}-${to - 1}` }, signal })
  if (!r.ok) throw new ApiError(((await r.json()) as S['Error']).message)
  return new Uint8Array(await r.arrayBuffer())
}

/** Bytes are asked for in pieces of this many. */
const CHUNK = 4096

/** The bytes of a range, in pieces that are kept. */
export function useBytes(entry: number, from: number, n: number, size: number) {
  const first = Math.floor(from / CHUNK)
  const last = Math.floor(Math.max(from, from + n - 1) / CHUNK)
  const { data, error } = useQuery({
    queryKey: entryKeys.bytes(entry, first, last),
    enabled: size > 0,
    staleTime: 60_000,
    placeholderData: keepPreviousData,
    queryFn: async ({ signal }) => ({
      from: first * CHUNK,
      data: await content(entry, first * CHUNK, (last + 1) * CHUNK, signal),
    }),
  })
  return { byte: (i: number) => data?.data[i - data.from], error }
}

/** What the bytes look like, in cells: of all of the entry, or of a part. */
export const useStrip = (entry: number, from?: number, span?: number, on = true) =>
  useQuery({
    queryKey: entryKeys.strip(entry, from, span),
    enabled: on,
    placeholderData: span ? keepPreviousData : undefined,
    queryFn: ({ signal }) =>
      ok(
        api.GET('/api/entries/{entry}/strip', {
          params: {
            path: { entry },
            query: { from, to: span && from !== undefined ? from + span : undefined, cells: 420 },
          },
          signal,
        }),
      ),
  })

export const findBytes = (entry: number, pattern: string, from: number) =>
  ok(api.GET('/api/entries/{entry}/find', { params: { path: { entry }, query: { pattern, from } } }))
export const findRepeats = (entry: number, at: number, size: number) =>
  ok(api.GET('/api/entries/{entry}/repeats', { params: { path: { entry }, query: { at, size } } }))

export const useEntryComparison = (entry: number, other: number) =>
  useQuery({
    queryKey: ['compare', entry, other],
    enabled: other > 0,
    ...forever,
    queryFn: ({ signal }) =>
      ok(
        api.GET('/api/entries/{entry}/compare', {
          params: { path: { entry }, query: { with: other } },
          signal,
        }),
      ),
  })

export const useBookmarks = (project: number, entry: number) =>
  useQuery({
    queryKey: entryKeys.bookmarks(project, entry),
    queryFn: ({ signal }) => ok(api.GET('/api/entries/{entry}/bookmarks', { ...of(entry), signal })),
  })
export const addBookmark = (entry: number, at: number, size: number, note: string) =>
  ok(api.POST('/api/entries/{entry}/bookmarks', { ...of(entry), body: { at, size, note } }))
export const removeBookmark = (entry: number, bookmark: number) =>
  ok(api.DELETE('/api/entries/{entry}/bookmarks/{bookmark}', { params: { path: { entry, bookmark } } }))
