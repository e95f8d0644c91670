// Target sheets: those that ship and the porter's own, kept in versions.
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import type { Schema } from '../parts/suggest'
import { api, forever, ok } from './http'

export const targetKeys = { list: ['targets'] as const, one: (id: string) => ['targets', id] as const }
const of = (target: string) => ({ params: { path: { target } } })

export const useTargets = () =>
  useQuery({
    queryKey: targetKeys.list,
    queryFn: ({ signal }) => ok(api.GET('/api/targets', { signal })),
  })
export const useTarget = (id: string) =>
  useQuery({
    queryKey: targetKeys.one(id),
    enabled: id !== '',
    queryFn: ({ signal }) => ok(api.GET('/api/targets/{target}', { ...of(id), signal })),
  })
export const targetVersion = (target: string, version: number) =>
  ok(api.GET('/api/targets/{target}', { params: { path: { target }, query: { version } } }))
export const makeTarget = (text: string) => ok(api.POST('/api/targets', { body: { text } }))
export const keepTarget = (target: string, text: string, version: number) =>
  ok(api.PUT('/api/targets/{target}', { ...of(target), body: { text, version } }))
export const takeTarget = (target: string, back = false) =>
  ok(api.DELETE('/api/targets/{target}', { params: { path: { target }, query: { back } } }))
export const proposeTarget = (find: number) => ok(api.POST('/api/targets/proposed', { body: { find } }))

/** Whether a text is a sheet, and what it says. */
export const useSheetCheck = (text: string) =>
  useQuery({
    queryKey: ['sheet', text],
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) => ok(api.POST('/api/targets/check', { body: { text }, signal })),
  })
/** The text of a sheet that a form holds. */
export const sheetText = (values: Record<string, unknown>, was: string) =>
  ok(api.POST('/api/targets/check', { body: { values, text: was } }))

export const useSheetSchema = () =>
  useQuery({
    queryKey: ['schema', 'sheet'],
    ...forever,
    queryFn: async ({ signal }) => (await ok(api.GET('/api/targets/schema', { signal }))) as Schema,
  })
