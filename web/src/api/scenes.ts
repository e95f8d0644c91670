// Scenes by digest: what is in one, how two differ, pictures of them. A scene
// never changes, so an answer holds for ever.
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { api, forever, ok, type S } from './http'

export const sceneKeys = {
  inventory: (digest?: string) => ['inventory', digest] as const,
  clues: (digest?: string) => ['clues', digest] as const,
  appraisal: (digest: string, picture: number) => ['appraisal', digest, picture] as const,
  comparison: (a?: string, b?: string, tolerance?: number) => ['comparison', a, b, tolerance] as const,
}
const of = (digest?: string) => ({ params: { path: { digest: digest! } } })

export const useInventory = (digest?: string) =>
  useQuery({
    queryKey: sceneKeys.inventory(digest),
    enabled: !!digest,
    ...forever,
    queryFn: ({ signal }) => ok(api.GET('/api/scenes/{digest}/inventory', { ...of(digest), signal })),
  })

/** The skeleton, held against that of another scene if there is one. */
export const useRig = (digest?: string, against?: string) =>
  useQuery({
    queryKey: ['rig', digest, against],
    enabled: !!digest,
    ...forever,
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) =>
      ok(
        api.GET('/api/scenes/{digest}/rig', {
          params: { path: { digest: digest! }, query: { against } },
          signal,
        }),
      ),
  })

/** What can be drawn of a motion along its time. */
export const useMotion = (digest: string, motion: number) =>
  useQuery({
    queryKey: ['motion', digest, motion],
    ...forever,
    queryFn: ({ signal }) =>
      ok(api.GET('/api/scenes/{digest}/motions/{motion}', { params: { path: { digest, motion } }, signal })),
  })

export const useClues = (digest?: string) =>
  useQuery({
    queryKey: sceneKeys.clues(digest),
    enabled: !!digest,
    ...forever,
    queryFn: ({ signal }) => ok(api.GET('/api/scenes/{digest}/clues', { ...of(digest), signal })),
  })

export const useAppraisal = (digest: string, picture: number, on = true) =>
  useQuery({
    queryKey: sceneKeys.appraisal(digest, picture),
    enabled: on,
    ...forever,
    queryFn: ({ signal }) =>
      ok(
        api.GET('/api/scenes/{digest}/pictures/{picture}/appraisal', {
          params: { path: { digest, picture } },
          signal,
        }),
      ),
  })

export const useComparison = (a?: string, b?: string, tolerance?: number) =>
  useQuery({
    queryKey: sceneKeys.comparison(a, b, tolerance),
    enabled: !!a && !!b,
    ...forever,
    queryFn: ({ signal }) =>
      ok(
        api.GET('/api/scenes/{digest}/comparison', {
          params: { path: { digest: a! }, query: { with: b!, tolerance } },
          signal,
        }),
      ),
  })

const read = (bare: boolean) => (bare ? '?read=target' : '')
export const thumb = (scene: string, bare = false) => `/api/scenes/${scene}/thumb${read(bare)}`
export const viewUrl = (scene: string, bare = false) => `/api/scenes/${scene}/view${read(bare)}`
export const uvUrl = (scene: string, mesh: number, part: number, set: number) =>
  `/api/scenes/${scene}/uv?mesh=${mesh}&part=${part}&set=${set}`
export const distancesUrl = (a: string, b: string, tolerance?: number) =>
  `/api/scenes/${a}/distances?with=${b}${tolerance === undefined ? '' : `&tolerance=${tolerance}`}`
export const scenePicture = (scene: string, n: number, show = 'all') =>
  `/api/scenes/${scene}/pictures/${n}?show=${show}`

/** What a rule takes of a scene. While the next answer is on its way the last one stands. */
export const usePick = (digest: string | undefined, where: Record<string, unknown> | undefined) =>
  useQuery({
    queryKey: ['pick', digest, where],
    enabled: !!digest && !!where,
    ...forever,
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) =>
      ok(api.POST('/api/scenes/{digest}/pick', { ...of(digest), body: { where: where! }, signal })),
  })

/** Rules that take what was chosen by hand. */
export const useProposals = (digest: string | undefined, things: S['Things'] | undefined) =>
  useQuery({
    queryKey: ['proposals', digest, things],
    enabled: !!digest && !!things,
    ...forever,
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) =>
      ok(api.POST('/api/scenes/{digest}/proposals', { ...of(digest), body: things!, signal })),
  })

/** What a step would make of a band, whose scene and key are given. */
export const useStepTrial = (
  project: number,
  band: { scene?: string; key?: string } | undefined,
  step: S['ChainStep'] | undefined,
) =>
  useQuery({
    queryKey: ['step trial', project, band?.scene, band?.key, step],
    enabled: !!band?.scene && !!band.key && !!step,
    ...forever,
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) =>
      ok(
        api.POST('/api/scenes/{digest}/trial', {
          ...of(band!.scene),
          body: { project, key: band!.key!, step: step! },
          signal,
        }),
      ),
  })

/** How a scene is put on paper; lengths are mm. */
export interface PaperOptions {
  height?: number
  paper?: string
  margin?: number
  tab?: number
  cut?: string
  join?: string
}

export const usePaper = (digest: string | undefined, query: PaperOptions) =>
  useQuery({
    queryKey: ['paper', digest, query],
    enabled: !!digest,
    ...forever,
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) =>
      ok(
        api.GET('/api/scenes/{digest}/paper', {
          params: { path: { digest: digest! }, query },
          signal,
        }),
      ),
  })

const asked = (o: PaperOptions & { page?: number; format?: string }) => {
  const q = new URLSearchParams()
  for (const [k, v] of Object.entries(o)) if (v !== undefined && v !== '') q.set(k, String(v))
  return q
}
export const paperGround = (digest: string, o: PaperOptions, page: number) =>
  `/api/scenes/${digest}/paper/ground?${asked({ ...o, page })}`
export const paperFile = (digest: string, o: PaperOptions, format: 'pdf' | 'svg') =>
  `/api/scenes/${digest}/paper/file?${asked({ ...o, format })}`

/** How a scene's voxels are built of blocks. */
export const blocksFile = (digest: string, format: 'pdf' | 'txt' | 'json') =>
  `/api/scenes/${digest}/blocks?format=${format}`
