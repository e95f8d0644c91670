// What was taken out of a project and can still be put back.
import { useState } from 'react'
import { useAct, type S } from '../api/http'
import { putBack, useTaken } from '../api/projects'
import { Fault } from './bits'
import { Item } from './Item'
import { TextButton } from './TextButton'

const words = (t: S['Taken']) => (t.also.length ? `, with ${t.also.join(' and ')}` : '')

/** The things of one kind that were taken out, the newest first, each with its way back. */
export function TakenOut({ project, kind }: { project: number; kind: S['Taken']['kind'] }) {
  const { data } = useTaken(project)
  const [all, setAll] = useState(false)
  const list = data?.filter((t) => t.kind === kind) ?? []
  const { act, fault } = useAct(project)
  if (list.length === 0) return null
  return (
    <div className="top" data-taken-out={list.length}>
      <Fault error={fault} />
      {list.slice(0, all ? undefined : 1).map((t) => (
        <Item between key={t.id}>
          <span className="grow">
            Taken out: <b>{t.name}</b>
            {words(t)}
          </span>
          <TextButton aria-label={`Put back ${t.name}`} onClick={() => act(() => putBack(project, t.id))}>
            Put back
          </TextButton>
        </Item>
      ))}
      {list.length > 1 && (
        <Item>
          <TextButton onClick={() => setAll(!all)}>
            {all ? 'Only the last' : `All ${list.length} of the last day`}
          </TextButton>
        </Item>
      )}
    </div>
  )
}
