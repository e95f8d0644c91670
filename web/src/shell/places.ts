// Where the stages are: each keeps the address that it had last, as long as it
// is about the asset at work.
import type { Stage } from '../pages'
import type { Work } from '../parts/work'

const last = new Map<string, string>()

/** Keeps where a stage was left. */
export function leave(project: number, stage: Stage['id'], address: string) {
  last.set(`${project} ${stage}`, address)
  // The table is what a search leads to, whatever page of the stage was last.
  if (/\/sources(\?|$)/.test(address)) last.set(`${project} table`, address)
}

export function placeOf(project: number, stage: Stage, work: Work): string {
  const was = last.get(`${project} ${stage.id}`)
  const id = stage.names === 'find' ? work.find : stage.names === 'chain' ? work.chain : undefined
  const plain = `/p/${project}/${stage.id}${id ? `/${id}` : ''}`
  // What was left counts if it is about the same asset.
  return was && (!id || was.split('?')[0] === plain) ? was : plain
}

export const searchPlace = (project: number) => last.get(`${project} table`) ?? `/p/${project}/sources`
