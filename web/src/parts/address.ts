// What a screen shows is in its address: reload or share it and it is there again.
import { useLocation, useSearchParams } from 'react-router'
import type { Surface } from './Model3D'

export type Put = (o: Record<string, string | number | undefined>) => void

/** The address's parameters, and how to change some of them; what is empty or undefined leaves the address. */
export function useAddress(): [URLSearchParams, Put] {
  const [params, setParams] = useSearchParams()
  const { pathname } = useLocation()
  const put: Put = (o) => {
    // What comes late does not bring back a screen that was left.
    if (window.location.pathname !== pathname) return
    setParams(
      () => {
        const p = new URLSearchParams(window.location.search) // not params: two changes may meet
        for (const [k, v] of Object.entries(o))
          if (v === undefined || v === '') p.delete(k)
          else p.set(k, String(v))
        return p
      },
      { replace: true },
    )
  }
  return [params, put]
}

/** How a 3D view shows its surfaces and what else it shows. */
export interface Show {
  surface: Surface
  set: number
  bone: number
  wires: boolean
  skeleton: boolean
  colliders: boolean
  figure: boolean
}
export const plainShow: Show = {
  surface: 'textured',
  set: 0,
  bone: -1,
  wires: false,
  skeleton: false,
  colliders: false,
  figure: true,
}

function showOf(params: URLSearchParams): Show {
  const also = (params.get('also') ?? '').split(' ')
  return {
    surface: (params.get('view') ?? 'textured') as Surface,
    set: Number(params.get('set') ?? 0),
    bone: Number(params.get('bone') ?? -1),
    wires: also.includes('wires'),
    skeleton: also.includes('skeleton'),
    colliders: also.includes('colliders'),
    figure: !also.includes('nofigure'),
  }
}

export function useShow(): [Show, (s: Partial<Show>) => void] {
  const [params, put] = useAddress()
  return [
    showOf(params),
    (change) => {
      const s = { ...showOf(new URLSearchParams(window.location.search)), ...change } // two changes may meet
      put({
        view: s.surface === 'textured' ? '' : s.surface,
        set: s.set || '',
        bone: s.bone < 0 ? '' : s.bone,
        also: [
          s.wires && 'wires',
          s.skeleton && 'skeleton',
          s.colliders && 'colliders',
          !s.figure && 'nofigure',
        ]
          .filter(Boolean)
          .join(' '),
      })
    },
  ]
}

/** The address's parameters that hold for any find: what the gallery shows and how the view looks. */
export function lasting(also: Record<string, string> = {}): string {
  const p = new URLSearchParams(window.location.search)
  for (const [k, v] of Object.entries(also))
    if (v) p.set(k, v)
    else p.delete(k)
  for (const k of [...p.keys()])
    if (
      ![
        'q',
        'only',
        'by',
        'of',
        'from',
        'to',
        'tab',
        'view',
        'also',
        'with',
        'tol',
        'size',
        'scale',
      ].includes(k)
    )
      p.delete(k)
  return p.size ? `?${p}` : ''
}
