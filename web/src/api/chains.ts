// Chains: their steps and bands, what the target says of them, what is made of
// them.
import { keepPreviousData, useQueries, useQuery } from '@tanstack/react-query'
import { api, forever, ok, type S } from './http'

export const chainKeys = {
  list: (project: number) => ['p', project, 'chains'] as const,
  bands: (project: number, chain?: number) => ['p', project, 'bands', chain] as const,
  rehearsal: (project: number, chain?: number) => ['p', project, 'rehearsal', chain] as const,
  deliveries: (project: number) => ['p', project, 'deliveries'] as const,
}
const at = (project: number) => ({ params: { path: { project } } })
const of = (chain: number) => ({ params: { path: { chain } } })

export const useChains = (project: number) =>
  useQuery({
    queryKey: chainKeys.list(project),
    queryFn: ({ signal }) => ok(api.GET('/api/projects/{project}/chains', { ...at(project), signal })),
  })

const bandsOf = (project: number, chain?: number) => ({
  queryKey: chainKeys.bands(project, chain),
  queryFn: ({ signal }: { signal: AbortSignal }) =>
    ok(api.GET('/api/chains/{chain}/bands', { ...of(chain!), signal })),
})
export const useBands = (project: number, chain?: number) =>
  useQuery({ ...bandsOf(project, chain), enabled: !!chain, placeholderData: keepPreviousData })
export const useBandsOfAll = (project: number, chains: number[]) =>
  useQueries({ queries: chains.map((c) => bandsOf(project, c)) })

export const useRehearsal = (project: number, chain?: number) =>
  useQuery({
    queryKey: chainKeys.rehearsal(project, chain),
    enabled: !!chain,
    queryFn: ({ signal }) => ok(api.GET('/api/chains/{chain}/rehearsal', { ...of(chain!), signal })),
  })

export const useSteps = () =>
  useQuery({
    queryKey: ['steps'],
    ...forever,
    queryFn: ({ signal }) => ok(api.GET('/api/steps', { signal })),
  })
export const makeChain = (project: number, find: number, name: string) =>
  ok(api.POST('/api/projects/{project}/chains', { ...at(project), body: { find, name } }))
/** A chain with the steps of another one, or of a document. */
export const likeChain = (
  project: number,
  find: number,
  name: string,
  like: { chain?: number; steps?: number; document?: string },
) => ok(api.POST('/api/projects/{project}/chains', { ...at(project), body: { find, name, ...like } }))
/** What the chains of one name did to their assets. */
export const useOver = (project: number, name: string) =>
  useQuery({
    queryKey: ['p', project, 'over', name],
    enabled: name !== '',
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) =>
      ok(
        api.GET('/api/projects/{project}/over', {
          params: { path: { project }, query: { name } },
          signal,
        }),
      ),
  })
/** The same chain for other assets. */
export const runOver = (chain: number, finds: number[]) =>
  ok(api.POST('/api/chains/{chain}/over', { ...of(chain), body: { finds } }))
/** Its steps for all chains of its name. */
export const sameForAll = (chain: number) => ok(api.POST('/api/chains/{chain}/all', of(chain)))
export const putSteps = (chain: S['Chain'], steps: S['ChainStep'][]) =>
  ok(api.PUT('/api/chains/{chain}/steps', { ...of(chain.id), body: { revision: chain.revision, steps } }))
export const setTarget = (chain: number, target: string) =>
  ok(api.PATCH('/api/chains/{chain}', { ...of(chain), body: { target } }))
export const undo = (chain: number) => ok(api.POST('/api/chains/{chain}/undo', of(chain)))
export const redo = (chain: number) => ok(api.POST('/api/chains/{chain}/redo', of(chain)))
export const rerun = (chain: number) => ok(api.POST('/api/chains/{chain}/run', of(chain)))
export const chainDocument = (chain: number) => `/api/chains/${chain}/document`

export const useDeliveries = (project: number) =>
  useQuery({
    queryKey: chainKeys.deliveries(project),
    queryFn: ({ signal }) => ok(api.GET('/api/projects/{project}/deliveries', { ...at(project), signal })),
  })
/** One with the manifests of all its assets, which the list leaves out. */
export const useDelivery = (project: number, delivery?: number) =>
  useQuery({
    queryKey: [...chainKeys.deliveries(project), delivery],
    enabled: !!delivery,
    queryFn: ({ signal }) => ok(api.GET('/api/deliveries/{delivery}', { ...made(delivery!), signal })),
  })
/** Adds the steps that mend what the rehearsal finds. */
export const mendAll = (chain: number) => ok(api.POST('/api/chains/{chain}/mended', of(chain)))
/** The ends of all chains against target sheets. */
export const useRehearsals = (project: number, targets: string[]) =>
  useQuery({
    queryKey: ['p', project, 'rehearsals', targets],
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) =>
      ok(
        api.GET('/api/projects/{project}/rehearsals', {
          params: { path: { project }, query: { targets } },
          signal,
        }),
      ),
  })

export type Order = S['Order']
/** The files of a delivery before it is made. */
export const useComposed = (project: number, chain: number | undefined, order: Order) =>
  useQuery({
    queryKey: ['p', project, 'composed', chain, order],
    enabled: !!chain,
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) =>
      ok(api.POST('/api/chains/{chain}/composed', { ...of(chain!), body: order, signal })),
  })
/** Where the rehearsal stops it, it is made only despite that. */
export const deliver = (chain: number, order: Order, despite = false, send?: string) =>
  ok(
    api.POST('/api/chains/{chain}/deliveries', {
      params: { path: { chain }, query: { despite, send } },
      body: order,
    }),
  )
const made = (delivery: number) => ({ params: { path: { delivery } } })
export const useReceivers = () =>
  useQuery({
    queryKey: ['receivers'],
    queryFn: ({ signal }) => ok(api.GET('/api/receivers', { signal })),
  })
export const sendDelivery = (delivery: number, receiver: string) =>
  ok(api.POST('/api/deliveries/{delivery}/sent', { ...made(delivery), body: { receiver } }))
export const placeDelivery = (delivery: number, folder: string, search: boolean) =>
  ok(api.POST('/api/deliveries/{delivery}/placed', { ...made(delivery), body: { folder, search } }))
/** Held against its manifest, and made again from the sources. */
export const verifyDelivery = (delivery: number) =>
  ok(api.GET('/api/deliveries/{delivery}/verified', made(delivery)))
/** Lets the receiver update itself, and tells what is left. */
export const afterUpdate = (delivery: number) =>
  ok(api.POST('/api/deliveries/{delivery}/survived', made(delivery)))
/** The receiver's picture of an asset that arrived; a new one each time it was sent. */
export const deliverySeen = (delivery: number, asset: number, seen: string) =>
  `/api/deliveries/${delivery}/seen?asset=${asset}&of=${seen.slice(0, 12)}`
export const deliveryFile = (delivery: number) => `/api/deliveries/${delivery}/file`
