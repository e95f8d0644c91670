// Sources: what is mounted, the library that may be mounted, whose they are.
import { useQuery } from '@tanstack/react-query'
import { api, ok, type S } from './http'

export const sourceKeys = {
  list: (project: number) => ['p', project, 'sources'] as const,
  library: (project: number, names: string[]) => ['p', project, 'library', names] as const,
}
const at = (project: number) => ({ params: { path: { project } } })
const of = (source: number) => ({ params: { path: { source } } })

/** A source may change on disk: the list is asked for again now and then. */
export const useSources = (project: number) =>
  useQuery({
    queryKey: sourceKeys.list(project),
    refetchInterval: 6_000,
    queryFn: ({ signal }) => ok(api.GET('/api/projects/{project}/sources', { ...at(project), signal })),
  })

/** What may be mounted; with names that are missing, what holds them comes first. */
export const useLibrary = (project: number, names: string[] = []) =>
  useQuery({
    queryKey: sourceKeys.library(project, names),
    queryFn: ({ signal }) =>
      ok(
        api.GET('/api/projects/{project}/library', {
          params: { path: { project }, query: { names: names.length > 0 ? names.slice(0, 100) : undefined } },
          signal,
        }),
      ),
  })

export const addSource = (project: number, path: string) =>
  ok(api.POST('/api/projects/{project}/sources', { ...at(project), body: { path } }))

export const orderSources = (project: number, ids: number[]) =>
  ok(api.PUT('/api/projects/{project}/sources/order', { ...at(project), body: { ids } }))

export const stateTerms = (source: number, terms: S['Terms']) =>
  ok(api.PATCH('/api/sources/{source}', { ...of(source), body: { terms } }))

export const removeSource = (source: number) => ok(api.DELETE('/api/sources/{source}', of(source)))
export const indexSource = (source: number) => ok(api.POST('/api/sources/{source}/index', of(source)))
export const mountEntry = (entry: number) =>
  ok(api.POST('/api/entries/{entry}/mount', { params: { path: { entry } } }))

// Uploads go up in pieces, so that one that breaks goes on where it stopped.
const upload = (id: string) => ({ params: { path: { upload: id } } })
export const beginUpload = (project: number, body: S['UploadStart']) =>
  ok(api.POST('/api/projects/{project}/uploads', { ...at(project), body }))
export const uploadState = (id: string) => ok(api.GET('/api/uploads/{upload}', upload(id)))
export const finishUpload = (id: string) => ok(api.POST('/api/uploads/{upload}/finish', upload(id)))

/** Sends a piece of a file; the answer says how much of the file is there, or why it was refused. */
export async function sendPiece(id: string, file: number, offset: number, body: Blob, signal: AbortSignal) {
  const r = await fetch(`/api/uploads/${id}/files/${file}?offset=${offset}`, {
    method: 'PUT',
    headers: { 'Content-Type': 'application/octet-stream' },
    body,
    signal,
  })
  const answer = (await r.json()) as { received?: number; message?: string }
  return { ...answer, status: r.status, ok: r.ok }
}
