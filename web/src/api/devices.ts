// Live outside systems: what is connected, what it offers, pulling it in.
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { api, ok, type S } from './http'

export const deviceKeys = {
  list: (project: number) => ['p', project, 'devices'] as const,
  offers: (project: number, d: S['Device']) =>
    ['p', project, 'offers', d.id, d.running ? 0 : d.frame] as const,
}
const of = (device: number) => ({ params: { path: { device } } })

export const useDevices = (project: number) =>
  useQuery({
    queryKey: deviceKeys.list(project),
    refetchInterval: 2000,
    queryFn: ({ signal }) =>
      ok(api.GET('/api/projects/{project}/devices', { params: { path: { project } }, signal })),
  })

/** What a device offers; of a console that runs, as it was when it was asked. */
export const useOffers = (project: number, d: S['Device']) =>
  useQuery({
    queryKey: deviceKeys.offers(project, d),
    enabled: d.online,
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) => ok(api.GET('/api/devices/{device}/offers', { ...of(d.id), signal })),
  })

/** Devices that run on this machine beside the application. */
export const useNearby = () =>
  useQuery({ queryKey: ['nearby'], queryFn: ({ signal }) => ok(api.GET('/api/nearby', { signal })) })

export const connectDevice = (project: number, address: string, token?: string) =>
  ok(
    api.POST('/api/projects/{project}/devices', {
      params: { path: { project } },
      body: { address, token: token || undefined },
    }),
  )
export const forgetDevice = (device: number) => ok(api.DELETE('/api/devices/{device}', of(device)))
export const controlDevice = (device: number, what: 'pause' | 'run' | 'step', frames?: number) =>
  ok(api.POST('/api/devices/{device}/control', { ...of(device), body: { do: what, frames } }))
export const pull = (device: number, offers: string[]) =>
  ok(api.POST('/api/devices/{device}/pull', { ...of(device), body: { offers } }))
export const offerThumb = (device: number, offer: string) =>
  `/api/devices/${device}/thumb?offer=${encodeURIComponent(offer)}`
