// How the interface asks the server: the typed client of api/openapi.yaml, its
// errors, and what an area of the API is made with.
import createClient from 'openapi-fetch'
import { useQueryClient, type QueryClient } from '@tanstack/react-query'
import { useState } from 'react'
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
  } catch (e) {
    if (e instanceof DOMException && e.name === 'AbortError') throw e // nobody waits for it any more
    throw new ApiError('Excavate does not answer. Is it still running?')
  }
  if (!r.response.ok) {
    const e = r.error as S['Error'] | undefined
    throw new ApiError(e?.message ?? `the server answered ${r.response.status}`, e?.at)
  }
  return r.data as T
}

/** What a request leads to is the same bytes each time: it is never asked for again. */
export const forever = { staleTime: Infinity }

/** Everything that is known of a project is asked for again. */
export const refresh = (q: QueryClient, project: number) => q.invalidateQueries({ queryKey: ['p', project] })

export interface Act {
  /** Does something that changes the project, then has what it changed asked for again. */
  act: <T>(change: () => Promise<T>, then?: (done: T) => void) => void
  /** What went wrong with the last one. */
  fault: unknown
  /** Whether one is under way. */
  busy: boolean
  clear: () => void
}

/** Changes of a project, one at a time. */
export function useAct(project: number): Act {
  const q = useQueryClient()
  const [fault, setFault] = useState<unknown>()
  const [busy, setBusy] = useState(false)
  const run = async <T>(change: () => Promise<T>, then?: (done: T) => void) => {
    setFault(undefined)
    setBusy(true)
    try {
      const done = await change()
      const asked = refresh(q, project)
      then?.(done) // at once: what is asked for again may take its time
      await asked
    } catch (e) {
      setFault(e)
      void refresh(q, project)
    } finally {
      setBusy(false)
    }
  }
  return {
    act: (change, then) => void run(change, then),
    fault,
    busy,
    clear: () => setFault(undefined),
  }
}
