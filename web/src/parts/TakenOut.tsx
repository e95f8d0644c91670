// What was taken out of a project and can still be put back.
import { useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { api, ok, refresh, useTaken, type S } from '../api/client'
import { Fault } from './bits'

const words = (t: S['Taken']) => (t.also.length ? `, with ${t.also.join(' and ')}` : '')

/** The things of one kind that were taken out, the newest first, each with its way back. */
export function TakenOut({ project, kind }: { project: number; kind: S['Taken']['kind'] }) {
  const { data } = useTaken(project)
  const q = useQueryClient()
  const [all, setAll] = useState(false)
  const [fault, setFault] = useState<unknown>()
  const list = data?.filter((t) => t.kind === kind) ?? []
  const back = async (taken: number) => {
    setFault(undefined)
    try {
      await ok(api.DELETE('/api/projects/{project}/taken/{taken}', { params: { path: { project, taken } } }))
    } catch (e) {
      setFault(e)
    }
    void refresh(q, project)
  }
  if (list.length === 0) return null
  return (
    <div className="top" data-taken-out={list.length}>
      <Fault error={fault} />
      {list.slice(0, all ? undefined : 1).map((t) => (
        <div className="item row between" key={t.id}>
          <span className="grow">
            Taken out: <b>{t.name}</b>
            {words(t)}
          </span>
          <button className="link" aria-label={`Put back ${t.name}`} onClick={() => void back(t.id)}>
            Put back
          </button>
        </div>
      ))}
      {list.length > 1 && (
        <div className="item">
          <button className="link" onClick={() => setAll(!all)}>
            {all ? 'Only the last' : `All ${list.length} of the last day`}
          </button>
        </div>
      )}
    </div>
  )
}
