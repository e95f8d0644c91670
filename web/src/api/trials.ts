// Trials: bytes of which nothing is known, read as something.
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import type { operations } from './schema'
import { api, ApiError, ok, type S } from './http'

type Query<K extends keyof operations> = operations[K] extends { parameters: { query?: infer Q } }
  ? NonNullable<Q>
  : never
export type PictureTrial = Query<'tryPicture'>
export type MeshTrial = Query<'tryMesh'>
export type RecordTrial = Query<'tryRecords'>
export type Order = 'little' | 'big'

const written = (q: object) =>
  Object.entries(q)
    .filter(([, v]) => v !== undefined)
    .map(([k, v]) => `${k}=${encodeURIComponent(String(v))}`)
    .join('&')
export const pictureTrialUrl = (entry: number, q: PictureTrial) =>
  `/api/entries/${entry}/trials/picture?${written(q)}`
export const meshTrialUrl = (entry: number, q: MeshTrial) => `/api/entries/${entry}/trials/mesh?${written(q)}`

/** The picture that an address gives, or the server's reason why it gives none. */
export const usePictureTrial = (url: string, on: boolean) =>
  useQuery({
    queryKey: ['trial', url],
    enabled: on,
    placeholderData: keepPreviousData,
    queryFn: async ({ signal }) => {
      const r = await fetch(url, { signal })
      if (!r.ok) throw new ApiError(((await r.json()) as S['Error']).message)
      return r.blob()
    },
  })

/** An address once it is known to give a model; the server's reason if it gives none. */
export const useMeshTrial = (url: string, on: boolean) =>
  useQuery({
    queryKey: ['meshtrial', url],
    enabled: on,
    placeholderData: keepPreviousData,
    queryFn: async ({ signal }) => {
      const r = await fetch(url, { signal })
      if (!r.ok) throw new ApiError(((await r.json()) as S['Error']).message)
      return url
    },
  })

export const useWidths = (entry: number, at: number, format: string, order: Order, on: boolean) =>
  useQuery({
    queryKey: ['width', entry, at, format, order],
    enabled: on,
    queryFn: ({ signal }) =>
      ok(
        api.GET('/api/entries/{entry}/trials/width', {
          params: { path: { entry }, query: { at, format, order } },
          signal,
        }),
      ),
  })

export const usePacked = (entry: number, at: number, size?: number) =>
  useQuery({
    queryKey: ['packed', entry, at, size],
    queryFn: ({ signal }) =>
      ok(
        api.GET('/api/entries/{entry}/trials/packed', {
          params: { path: { entry }, query: { at, size } },
          signal,
        }),
      ),
  })

export const useMeshGuess = (entry: number, at: number, order: Order) =>
  useQuery({
    queryKey: ['meshguess', entry, at, order],
    queryFn: ({ signal }) =>
      ok(
        api.GET('/api/entries/{entry}/trials/guess', {
          params: { path: { entry }, query: { at, order } },
          signal,
        }),
      ),
  })

export const useRecords = (entry: number, query: RecordTrial, on: boolean) =>
  useQuery({
    queryKey: ['records', entry, query],
    enabled: on,
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) =>
      ok(api.GET('/api/entries/{entry}/trials/records', { params: { path: { entry }, query }, signal })),
  })

export type Trial = S['Trial']
/** What is kept of a trial: a piece for a layout that is there, and a document of its own. */
export const fragmentOf = (entry: number, trial: Trial, signal?: AbortSignal) =>
  ok(api.POST('/api/entries/{entry}/fragment', { params: { path: { entry } }, body: trial, signal }))
export const useFragment = (entry: number, trial: Trial, on: boolean) =>
  useQuery({
    queryKey: ['fragment', entry, trial],
    enabled: on,
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) => fragmentOf(entry, trial, signal),
  })
