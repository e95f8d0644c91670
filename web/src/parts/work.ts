// The asset at work: the address says which, and what does not name one keeps
// the one that was named last.
import { createContext, useContext } from 'react'
import type { S } from '../api/http'

export interface Work {
  find?: number
  chain?: number
}
export const WorkContext = createContext<Work>({})
export const useWork = () => useContext(WorkContext)

const key = (project: number) => `excavate.work.${project}`

export function remembered(project: number): Work {
  try {
    return JSON.parse(sessionStorage.getItem(key(project)) ?? '{}') as Work
  } catch {
    return {}
  }
}
export const remember = (project: number, work: Work) =>
  sessionStorage.setItem(key(project), JSON.stringify(work))

/** The asset that an address names, completed by the chains that there are. */
export function workOf(stage: string, id: number, was: Work, chains: S['Chain'][]): Work {
  const named = chains.find((c) => c.id === id)
  if (stage === 'finds' && id > 0) {
    const own = chains.filter((c) => c.find === id)
    const chain = own.find((c) => c.id === was.chain) ?? own[own.length - 1]
    return { find: id, chain: chain?.id }
  }
  if (named && stage !== 'finds' && stage !== 'sources') return { find: named.find, chain: named.id }
  if (!was.find && !was.chain && chains.length > 0) {
    const newest = chains[chains.length - 1]
    return { find: newest.find, chain: newest.id }
  }
  return was
}
