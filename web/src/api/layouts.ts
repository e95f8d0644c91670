// Layouts: the project's own and those that ship, what one reads in an entry,
// and how much of all entries it covers.
import { keepPreviousData, useQuery, type QueryClient } from '@tanstack/react-query'
import type { Schema } from '../parts/suggest'
import { api, forever, ok, type S } from './http'

export const layoutKeys = {
  list: (project: number) => ['p', project, 'layouts'] as const,
  one: (layout: number) => ['layout', layout] as const,
  coverage: (project: number, layout: number) => ['p', project, 'coverage', layout] as const,
}
const at = (project: number) => ({ params: { path: { project } } })
const of = (layout: number) => ({ params: { path: { layout } } })
const inEntry = (entry: number) => ({ params: { path: { entry } } })

export const useLayouts = (project: number) =>
  useQuery({
    queryKey: layoutKeys.list(project),
    queryFn: ({ signal }) => ok(api.GET('/api/projects/{project}/layouts', { ...at(project), signal })),
  })

export const useLayout = (layout: number) =>
  useQuery({
    queryKey: layoutKeys.one(layout),
    ...forever,
    queryFn: ({ signal }) => ok(api.GET('/api/layouts/{layout}', { ...of(layout), signal })),
  })
/** Has a layout asked for anew when it is opened again. */
export const forgetLayout = (q: QueryClient, layout: number) =>
  q.removeQueries({ queryKey: layoutKeys.one(layout) })

export const layoutVersion = (layout: number, version: number) =>
  ok(api.GET('/api/layouts/{layout}', { params: { path: { layout }, query: { version } } }))
export const makeLayout = (project: number, name: string, document?: string, entry?: number) =>
  ok(api.POST('/api/projects/{project}/layouts', { ...at(project), body: { name, document, entry } }))
export const keepLayout = (layout: number, document: string, base: number) =>
  ok(api.PUT('/api/layouts/{layout}', { ...of(layout), body: { document, base } }))
export const removeLayout = (layout: number) => ok(api.DELETE('/api/layouts/{layout}', of(layout)))
export const layoutDocument = (layout: number) => `/api/layouts/${layout}/document`

/** Browsers send this much of a request that outlives its page. */
const keepaliveMost = 60_000
export const keepDraft = (layout: number, document: string, base: number, leaving: boolean) =>
  ok(
    api.PUT('/api/layouts/{layout}/draft', {
      ...of(layout),
      body: { document, base },
      keepalive: leaving && document.length < keepaliveMost,
    }),
  )
export const dropDraft = (layout: number, leaving: boolean) =>
  ok(api.DELETE('/api/layouts/{layout}/draft', { ...of(layout), keepalive: leaving }))

export const useLayoutSchema = () =>
  useQuery({
    queryKey: ['schema'],
    ...forever,
    queryFn: async ({ signal }) => (await ok(api.GET('/api/schemas/layout', { signal }))) as Schema,
  })

export const useCheck = (document: string) =>
  useQuery({
    queryKey: ['check', document],
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) => ok(api.POST('/api/layouts/check', { body: { document }, signal })),
  })

/** What a document reads in an entry, field by field. */
export const useExplained = (entry: number, document: string, focus: number, on: boolean) =>
  useQuery({
    queryKey: ['explain', entry, document, focus],
    enabled: !!entry && on,
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) =>
      ok(
        api.POST('/api/entries/{entry}/explain', {
          ...inEntry(entry),
          body: { document, focus: focus < 0 ? undefined : focus },
          signal,
        }),
      ),
  })

/** What a document makes of an entry. */
export interface Made {
  kind: string
  picture?: string
  width?: number
  height?: number
  model?: S['Model']
  entries?: { name: string; at: number; size: number; codec: string; error?: string }[]
  count?: number
}
export const useMade = (entry: number, document: string, on: boolean) =>
  useQuery({
    queryKey: ['made', entry, document],
    enabled: on,
    placeholderData: keepPreviousData,
    queryFn: async ({ signal }) =>
      (await ok(
        api.POST('/api/entries/{entry}/made', { ...inEntry(entry), body: { document }, signal }),
      )) as unknown as Made,
  })

export const useCoverage = (project: number, layout: number) =>
  useQuery({
    queryKey: layoutKeys.coverage(project, layout),
    refetchInterval: (s: { state: { data?: S['Coverage'] } }) => (s.state.data?.running ? 400 : false),
    queryFn: ({ signal }) => ok(api.GET('/api/layouts/{layout}/coverage', { ...of(layout), signal })),
  })
export const runCoverage = (layout: number) => ok(api.POST('/api/layouts/{layout}/coverage', of(layout)))
