// Projects: the list, one, and what is under way in it.
import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { api, ApiError, ok, refresh, type S } from './http'

export const projectKeys = {
  list: ['projects'] as const,
  one: (id: number, chain?: number) => ['p', id, 'project', chain ?? 0] as const,
  taken: (id: number) => ['p', id, 'taken'] as const,
}
const at = (project: number) => ({ params: { path: { project } } })

export const useProjects = () =>
  useQuery({
    queryKey: projectKeys.list,
    queryFn: ({ signal }) => ok(api.GET('/api/projects', { signal })),
  })

/** A project; what is said of chain and rehearsal is of the chain that is named. */
export const useProject = (id: number, chain?: number) =>
  useQuery<S['Project'], Error, S['Project'], ReturnType<typeof projectKeys.one>>({
    queryKey: projectKeys.one(id, chain),
    placeholderData: (was: S['Project'] | undefined): S['Project'] | undefined =>
      was?.id === id ? was : undefined,
    queryFn: ({ signal }) =>
      ok(api.GET('/api/projects/{project}', { params: { path: { project: id }, query: { chain } }, signal })),
  })

export const makeProject = (name: string) => ok(api.POST('/api/projects', { body: { name } }))

export const renameProject = (project: number, name: string) =>
  ok(api.PATCH('/api/projects/{project}', { ...at(project), body: { name } }))
export const copyProject = (project: number, name: string) =>
  ok(api.POST('/api/projects/{project}/copy', { ...at(project), body: { name } }))
export const deleteProject = (project: number) => ok(api.DELETE('/api/projects/{project}', at(project)))
export const projectFile = (project: number) => `/api/projects/${project}/export`

async function send<T extends object>(path: string, file: File): Promise<T> {
  const r = await fetch(path, {
    method: 'POST',
    headers: { 'Content-Type': 'application/octet-stream' },
    body: file,
  })
  const answer = (await r.json()) as T | S['Error']
  if ('message' in answer) throw new ApiError(answer.message, answer.at)
  return answer
}

/** Makes a project of a file that was exported. */
export const importProject = (file: File) => send<S['Imported']>('/api/projects/import', file)
export const projectRecipe = (project: number) => `/api/projects/${project}/recipe`
/** What opening a recipe does, before anything is done. */
export const lookAtRecipe = (file: File) => send<S['RecipeLook']>('/api/recipes/look', file)
export const openRecipe = (file: File, changed: boolean) =>
  send<S['Imported']>(`/api/recipes/open?changed=${changed}`, file)

/** What was taken out of a project and can still be put back. */
export const useTaken = (id: number) =>
  useQuery({
    queryKey: projectKeys.taken(id),
    queryFn: ({ signal }) => ok(api.GET('/api/projects/{project}/taken', { ...at(id), signal })),
  })

export const putBack = (project: number, taken: number) =>
  ok(api.DELETE('/api/projects/{project}/taken/{taken}', { params: { path: { project, taken } } }))

export const cancelJob = (job: number) =>
  ok(api.POST('/api/jobs/{job}/cancel', { params: { path: { job } } }))

/** Listens to the project's events: what changed is asked for again, and the work under way is returned. */
export function useEvents(project: number): S['Job'][] {
  const q = useQueryClient()
  const [jobs, setJobs] = useState<{ of: number; all: Record<number, S['Job']> }>({ of: project, all: {} })
  useEffect(() => {
    let es: EventSource
    const open = () => {
      es = new EventSource(`/api/projects/${project}/events`)
      es.addEventListener('changed', () => {
        void refresh(q, project)
        void q.invalidateQueries({ queryKey: projectKeys.list })
      })
      es.addEventListener('job', (e: MessageEvent<string>) => {
        const j = JSON.parse(e.data) as S['Job']
        setJobs((was) => ({ of: project, all: { ...(was.of === project ? was.all : {}), [j.id]: j } }))
        if (j.state === 'done' || j.state === 'failed') void refresh(q, project)
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
  return jobs.of === project ? Object.values(jobs.all).sort((a, b) => b.id - a.id) : []
}
