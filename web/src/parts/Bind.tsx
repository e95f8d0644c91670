// Binds a name that a file asks for, such as a console's memory segment, to an
// entry of any source.
import { OutlinedInput } from '@mui/material'
import { useState } from 'react'
import { useNamedEntries } from '../api/entries'
import { useAct } from '../api/http'
import { bind } from '../api/links'
import { Fault } from './bits'
import { TextButton } from './TextButton'

export function Bind({ project, name }: { project: number; name: string }) {
  const [open, setOpen] = useState(false)
  const [text, setText] = useState('')
  const { data } = useNamedEntries(project, text, 8, open)
  const { act, fault } = useAct(project)

  if (!open)
    return (
      <small>
        <TextButton data-bind={name} onClick={() => setOpen(true)}>
          Bind {name.split('/').pop()} to an entry
        </TextButton>
      </small>
    )
  return (
    <div>
      <OutlinedInput
        fullWidth
        inputRef={(el: HTMLInputElement | null) => el?.focus()}
        value={text}
        onChange={(e) => setText(e.target.value)}
        placeholder="part of an entry's name"
        inputProps={{ 'aria-label': `Entry for ${name}` }}
      />
      {text.length > 1 &&
        data?.entries.map((e) => (
          <small key={e.id}>
            {e.sourceLabel}: {e.path}{' '}
            <TextButton
              data-use={e.path}
              onClick={() =>
                act(
                  () => bind(project, name, e.id),
                  () => setOpen(false),
                )
              }
            >
              Use it
            </TextButton>
          </small>
        ))}
      {text.length > 1 && data?.entries.length === 0 && <small>No entry has that in its name.</small>}
      <Fault error={fault} />
    </div>
  )
}
