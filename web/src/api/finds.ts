// Finds: decoded assets, how they are read, where they came from.
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { api, forever, ok, type S } from './http'

export const findKeys = {
  list: (project: number) => ['p', project, 'finds'] as const,
  gallery: (project: number) => ['p', project, 'gallery'] as const,
  one: (project: number, find?: number) => ['p', project, 'find', find] as const,
  sources: (project: number, find?: number) => ['p', project, 'findsources', find] as const,
  choices: (find: number) => ['choices', find] as const,
}
const at = (project: number) => ({ params: { path: { project } } })
const of = (find: number) => ({ params: { path: { find } } })

export const useFinds = (project: number) =>
  useQuery({
    queryKey: findKeys.list(project),
    queryFn: ({ signal }) => ok(api.GET('/api/projects/{project}/finds', { ...at(project), signal })),
  })

export const useGallery = (project: number) =>
  useQuery({
    queryKey: findKeys.gallery(project),
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) => ok(api.GET('/api/projects/{project}/gallery', { ...at(project), signal })),
  })

export const useFind = (project: number, find?: number) =>
  useQuery({
    queryKey: findKeys.one(project, find),
    enabled: !!find,
    placeholderData: (x: S['Find'] | undefined, was) => (was?.queryKey[3] === find ? x : undefined),
    queryFn: ({ signal }) => ok(api.GET('/api/finds/{find}', { ...of(find!), signal })),
  })

export const useFindSources = (project: number, find?: number) =>
  useQuery({
    queryKey: findKeys.sources(project, find),
    enabled: !!find,
    queryFn: ({ signal }) => ok(api.GET('/api/finds/{find}/sources', { ...of(find!), signal })),
  })

export const makeFind = (project: number, entry: number) =>
  ok(api.POST('/api/projects/{project}/finds', { ...at(project), body: { entry } }))
export const findAll = (project: number, filter: S['Filter']) =>
  ok(api.POST('/api/projects/{project}/gallery', { ...at(project), body: filter }))
export const removeFind = (find: number) => ok(api.DELETE('/api/finds/{find}', of(find)))
export const decode = (find: number) => ok(api.POST('/api/finds/{find}/decode', of(find)))
export const readAs = (find: number, readings: Record<string, string>) =>
  ok(api.PUT('/api/finds/{find}/readings', { ...of(find), body: readings }))
export const decideBasis = (find: number, body: S['Decision']) =>
  ok(api.PUT('/api/finds/{find}/basis', { ...of(find), body }))
export const leaveBasis = (find: number) => ok(api.DELETE('/api/finds/{find}/basis', of(find)))

export const useFormats = (on = true) =>
  useQuery({
    queryKey: ['formats'],
    enabled: on,
    ...forever,
    queryFn: ({ signal }) => ok(api.GET('/api/formats', { signal })),
  })

/** The formats that a find may be saved in, what keeps most first. */
export const useSaveChoices = (find: number, on: boolean) =>
  useQuery({
    queryKey: findKeys.choices(find),
    enabled: on,
    queryFn: ({ signal }) => ok(api.GET('/api/finds/{find}/file/choices', { ...of(find), signal })),
  })
export const findFile = (find: number, format: string) => `/api/finds/${find}/file?format=${format}`
/** Several finds in one format, as a ZIP. */
export const findsFile = (project: number, format: string, finds: number[]) =>
  `/api/projects/${project}/finds/file?format=${format}&${finds.map((f) => `finds=${f}`).join('&')}`

/** One asset of several finds, each in its own place. */
export const putTogether = (project: number, name: string, finds: number[]) =>
  ok(
    api.POST('/api/projects/{project}/assemblies', {
      params: { path: { project } },
      body: { name, finds },
    }),
  )
