// The typed client of api/openapi.yaml, and the hooks that screens use.
import createClient from 'openapi-fetch'
import { useQuery, useQueryClient, type QueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import type { components, paths } from './schema'

export type S = components['schemas']
export const api = createClient<paths>({ baseUrl: window.location.origin })

/** An error of the server: what, where, what to do. */
export class ApiError extends Error {
  constructor(
    message: string,
    readonly at?: string,
  ) {
    super(message)
  }
}

/** Unwraps an answer, or throws what the server says is wrong. */
export async function ok<T>(p: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let r
  try {
    r = await p
  } catch {
    throw new ApiError('Excavate does not answer. Is it still running?')
  }
  if (!r.response.ok) {
    const e = r.error as S['Error'] | undefined
    throw new ApiError(e?.message ?? `the server answered ${r.response.status}`, e?.at)
  }
  return r.data as T
}

const P = (project: number) => ({ params: { path: { project } } })
const C = (chain: number) => ({ params: { path: { chain } } })

export const useProjects = () =>
  useQuery({ queryKey: ['projects'], queryFn: () => ok(api.GET('/api/projects')) })
export const useProject = (id: number) =>
  useQuery({ queryKey: ['p', id, 'project'], queryFn: () => ok(api.GET('/api/projects/{project}', P(id))) })
export const useSources = (id: number) =>
  useQuery({
    queryKey: ['p', id, 'sources'],
    refetchInterval: 6_000,
    /* one may change on disk */ queryFn: () => ok(api.GET('/api/projects/{project}/sources', P(id))),
  })
export const useLibrary = (on: boolean) =>
  useQuery({ queryKey: ['library'], enabled: on, queryFn: () => ok(api.GET('/api/library')) })
export const useFinds = (id: number) =>
  useQuery({
    queryKey: ['p', id, 'finds'],
    queryFn: () => ok(api.GET('/api/projects/{project}/finds', P(id))),
  })
export const useChains = (id: number) =>
  useQuery({
    queryKey: ['p', id, 'chains'],
    queryFn: () => ok(api.GET('/api/projects/{project}/chains', P(id))),
  })
export const useGallery = (id: number) =>
  useQuery({
    queryKey: ['p', id, 'gallery'],
    placeholderData: (x) => x,
    queryFn: () => ok(api.GET('/api/projects/{project}/gallery', P(id))),
  })
export const useFind = (id: number, find?: number) =>
  useQuery({
    queryKey: ['p', id, 'find', find],
    enabled: !!find,
    placeholderData: (x, q) => (q?.queryKey[3] === find ? x : undefined),
    queryFn: () => ok(api.GET('/api/finds/{find}', { params: { path: { find: find! } } })),
  })
const D = (digest?: string) => ({ params: { path: { digest: digest! } } })
export const useInventory = (digest?: string) =>
  useQuery({
    queryKey: ['inventory', digest],
    enabled: !!digest,
    staleTime: Infinity,
    queryFn: () => ok(api.GET('/api/scenes/{digest}/inventory', D(digest))),
  })
export const useClues = (digest?: string) =>
  useQuery({
    queryKey: ['clues', digest],
    enabled: !!digest,
    staleTime: Infinity,
    queryFn: () => ok(api.GET('/api/scenes/{digest}/clues', D(digest))),
  })
export const useAppraisal = (digest: string, picture: number, on = true) =>
  useQuery({
    queryKey: ['appraisal', digest, picture],
    enabled: on,
    staleTime: Infinity,
    queryFn: () =>
      ok(
        api.GET('/api/scenes/{digest}/pictures/{picture}/appraisal', {
          params: { path: { digest, picture } },
        }),
      ),
  })
export const useComparison = (a?: string, b?: string, tolerance?: number) =>
  useQuery({
    queryKey: ['comparison', a, b, tolerance],
    enabled: !!a && !!b,
    staleTime: Infinity,
    queryFn: () =>
      ok(
        api.GET('/api/scenes/{digest}/comparison', {
          params: { path: { digest: a! }, query: { with: b!, tolerance } },
        }),
      ),
  })
export const useFormats = (on = true) =>
  useQuery({
    queryKey: ['formats'],
    enabled: on,
    staleTime: Infinity,
    queryFn: () => ok(api.GET('/api/formats')),
  })
export const useBands = (id: number, chain?: number) =>
  useQuery({
    queryKey: ['p', id, 'bands', chain],
    enabled: !!chain,
    placeholderData: (x) => x,
    queryFn: () => ok(api.GET('/api/chains/{chain}/bands', C(chain!))),
  })
export const useRehearsal = (id: number, chain?: number) =>
  useQuery({
    queryKey: ['p', id, 'rehearsal', chain],
    enabled: !!chain,
    queryFn: () => ok(api.GET('/api/chains/{chain}/rehearsal', C(chain!))),
  })
export const useDeliveries = (id: number) =>
  useQuery({
    queryKey: ['p', id, 'deliveries'],
    queryFn: () => ok(api.GET('/api/projects/{project}/deliveries', P(id))),
  })
export const useSteps = () =>
  useQuery({ queryKey: ['steps'], staleTime: Infinity, queryFn: () => ok(api.GET('/api/steps')) })
export const useTargets = () =>
  useQuery({ queryKey: ['targets'], staleTime: Infinity, queryFn: () => ok(api.GET('/api/targets')) })
export const previewQuery = (id: number, entry: number) => ({
  queryKey: ['p', id, 'preview', entry] as const,
  staleTime: 20_000,
  queryFn: () => ok(api.GET('/api/entries/{entry}/preview', { params: { path: { entry } } })),
})
export const usePreview = (id: number, entry?: number) =>
  useQuery({ ...previewQuery(id, entry ?? 0), enabled: !!entry })

export const useMissing = (id: number) =>
  useQuery({
    queryKey: ['p', id, 'missing'],
    queryFn: () => ok(api.GET('/api/projects/{project}/links/missing', P(id))),
  })
export const usePins = (id: number) =>
  useQuery({ queryKey: ['p', id, 'pins'], queryFn: () => ok(api.GET('/api/projects/{project}/pins', P(id))) })
export const useNaming = (id: number) =>
  useQuery({
    queryKey: ['p', id, 'naming'],
    queryFn: () => ok(api.GET('/api/projects/{project}/naming', P(id))),
  })
export const useTaken = (id: number) =>
  useQuery({
    queryKey: ['p', id, 'taken'],
    queryFn: () => ok(api.GET('/api/projects/{project}/taken', P(id))),
  })
export const useFindSources = (id: number, find?: number) =>
  useQuery({
    queryKey: ['p', id, 'findsources', find],
    enabled: !!find,
    queryFn: () => ok(api.GET('/api/finds/{find}/sources', { params: { path: { find: find! } } })),
  })
export const useDevices = (id: number) =>
  useQuery({
    queryKey: ['p', id, 'devices'],
    refetchInterval: 2000,
    queryFn: () => ok(api.GET('/api/projects/{project}/devices', P(id))),
  })
export const useExtractions = (id: number) =>
  useQuery({
    queryKey: ['p', id, 'extractions'],
    queryFn: () => ok(api.GET('/api/projects/{project}/extractions', P(id))),
  })

export const refresh = (q: QueryClient, project: number) => q.invalidateQueries({ queryKey: ['p', project] })

/** Listens to the project's events: what changed is asked for again, and the work under way is returned. */
export function useEvents(project: number): S['Job'][] {
  const q = useQueryClient()
  const [jobs, setJobs] = useState<Record<number, S['Job']>>({})
  useEffect(() => {
    setJobs({})
    let es: EventSource
    const open = () => {
      es = new EventSource(`/api/projects/${project}/events`)
      es.addEventListener('changed', () => {
        refresh(q, project)
        q.invalidateQueries({ queryKey: ['projects'] })
      })
      es.addEventListener('job', (e) => {
        const j = JSON.parse((e as MessageEvent).data) as S['Job']
        setJobs((all) => ({ ...all, [j.id]: j }))
        if (j.state === 'done' || j.state === 'failed') refresh(q, project)
      })
    }
    open()
    // A page that is kept for “back” must not hold a connection.
    const hide = () => es.close()
    const back = (e: PageTransitionEvent) => {
      if (e.persisted) open()
    }
    window.addEventListener('pagehide', hide)
    window.addEventListener('pageshow', back)
    return () => {
      window.removeEventListener('pagehide', hide)
      window.removeEventListener('pageshow', back)
      es.close()
    }
  }, [project, q])
  return Object.values(jobs).sort((a, b) => b.id - a.id)
}

export const thumb = (scene: string, bare = false) =>
  `/api/scenes/${scene}/thumb${bare ? '?read=target' : ''}`
export const viewUrl = (scene: string, bare = false) =>
  `/api/scenes/${scene}/view${bare ? '?read=target' : ''}`
export const scenePicture = (scene: string, n: number, show = 'all') =>
  `/api/scenes/${scene}/pictures/${n}?show=${show}`
export const pictureUrl = (entry: number, show = 'all') => `/api/entries/${entry}/picture?show=${show}`
