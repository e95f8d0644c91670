// Selections of entries, and taking them out of their sources.
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { api, ok, type S } from './http'

export const extractionKeys = {
  list: (project: number) => ['p', project, 'extractions'] as const,
  selected: (project: number, s: S['Selection']) => ['p', project, 'selected', JSON.stringify(s)] as const,
}
const at = (project: number) => ({ params: { path: { project } } })

/** Keeps a selection and says what it comes to. */
export const keepSelection = (project: number, body: S['Selection'], signal?: AbortSignal) =>
  ok(api.POST('/api/projects/{project}/selections', { ...at(project), body, signal }))

export const keptSelection = (project: number, digest: string) =>
  ok(api.GET('/api/projects/{project}/selections/{digest}', { params: { path: { project, digest } } }))

/** What a selection comes to: entries, bytes, what it needs that is missing. */
export const useSelected = (project: number, selection: S['Selection'], on = true) =>
  useQuery({
    queryKey: extractionKeys.selected(project, selection),
    enabled: on,
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) => keepSelection(project, selection, signal),
  })

export const useExtractions = (project: number) =>
  useQuery({
    queryKey: extractionKeys.list(project),
    queryFn: ({ signal }) => ok(api.GET('/api/projects/{project}/extractions', { ...at(project), signal })),
  })

export const extract = (project: number, body: S['ExtractionStart']) =>
  ok(api.POST('/api/projects/{project}/extractions', { ...at(project), body }))
export const resumeExtraction = (extraction: number) =>
  ok(api.POST('/api/extractions/{extraction}/resume', { params: { path: { extraction } } }))
