// Binds a name that a file asks for, such as a console's memory segment, to an
// entry of any source.
import { OutlinedInput } from '@mui/material'
import { keepPreviousData, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { api, ok, refresh } from '../api/client'
import { Fault } from './bits'

export function Bind({ project, name }: { project: number; name: string }) {
  const q = useQueryClient()
  const [open, setOpen] = useState(false)
  const [text, setText] = useState('')
  const [fault, setFault] = useState<unknown>()
  const { data } = useQuery({
    queryKey: ['p', project, 'bind', text],
    enabled: open && text.length > 1,
    placeholderData: keepPreviousData,
    queryFn: () =>
      ok(
        api.GET('/api/projects/{project}/entries', {
          params: { path: { project }, query: { q: text, limit: 8 } },
        }),
      ),
  })
  const use = async (entry: number) => {
    setFault(undefined)
    try {
      await ok(
        api.PUT('/api/projects/{project}/pins', {
          params: { path: { project } },
          body: { ref: name, entry },
        }),
      )
      setOpen(false)
    } catch (e) {
      setFault(e)
    }
    void refresh(q, project)
  }
  if (!open)
    return (
      <small>
        <button className="link" data-bind={name} onClick={() => setOpen(true)}>
          Bind {name.split('/').pop()} to an entry
        </button>
      </small>
    )
  return (
    <div>
      <OutlinedInput
        fullWidth
        autoFocus
        value={text}
        onChange={(e) => setText(e.target.value)}
        placeholder="part of an entry's name"
        inputProps={{ 'aria-label': `Entry for ${name}` }}
      />
      {text.length > 1 &&
        data?.entries.map((e) => (
          <small key={e.id}>
            {e.sourceLabel}: {e.path}{' '}
            <button className="link" data-use={e.path} onClick={() => void use(e.id)}>
              Use it
            </button>
          </small>
        ))}
      {text.length > 1 && data?.entries.length === 0 && <small>No entry has that in its name.</small>}
      <Fault error={fault} />
    </div>
  )
}
