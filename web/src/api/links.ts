// Names that files ask for: which are missing, which are bound by hand, and the
// rules by which entries belong together.
import { useQuery } from '@tanstack/react-query'
import { api, ok, type S } from './http'

export const linkKeys = {
  missing: (project: number) => ['p', project, 'missing'] as const,
  pins: (project: number) => ['p', project, 'pins'] as const,
  naming: (project: number) => ['p', project, 'naming'] as const,
}
const at = (project: number) => ({ params: { path: { project } } })

export const useMissing = (project: number) =>
  useQuery({
    queryKey: linkKeys.missing(project),
    queryFn: ({ signal }) => ok(api.GET('/api/projects/{project}/links/missing', { ...at(project), signal })),
  })

export const usePins = (project: number) =>
  useQuery({
    queryKey: linkKeys.pins(project),
    queryFn: ({ signal }) => ok(api.GET('/api/projects/{project}/pins', { ...at(project), signal })),
  })

export const bind = (project: number, ref: string, entry: number) =>
  ok(api.PUT('/api/projects/{project}/pins', { ...at(project), body: { ref, entry } }))
export const unbind = (project: number, ref: string) =>
  ok(api.DELETE('/api/projects/{project}/pins', { params: { path: { project }, query: { ref } } }))

export const useNaming = (project: number) =>
  useQuery({
    queryKey: linkKeys.naming(project),
    queryFn: ({ signal }) => ok(api.GET('/api/projects/{project}/naming', { ...at(project), signal })),
  })
export const keepNaming = (project: number, body: { rules?: S['NameRule'][]; document?: string }) =>
  ok(api.PUT('/api/projects/{project}/naming', { ...at(project), body }))
