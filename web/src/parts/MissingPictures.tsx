// The way from a missing picture to the source that holds it and back: the
// chooser offers first what holds the name, and what was found is said.
import { Button, styled } from '@mui/material'
import { useState } from 'react'
import type { S } from '../api/http'
import { useSources } from '../api/sources'
import { AddSource } from '../stages/sources/AddSource'
import { named, plural } from './format'
import { Tone } from './Tone'

const Frame = styled('div')({ padding: '8px 18px', fontSize: 13, '& p': { margin: '6px 0 0' } })

export function MissingPictures({ project, pictures }: { project: number; pictures: S['Picture'][] }) {
  const [open, setOpen] = useState(false)
  const [sought, setSought] = useState<{ names: string[]; label?: string }>()
  const { data: sources } = useSources(project)
  const missing = pictures.filter((p) => p.missing)
  const found = sought ? pictures.filter((p) => !p.missing && sought.names.includes(p.ref)) : []
  const still = sought ? missing.filter((p) => sought.names.includes(p.ref)) : []
  const reading = sources?.some((s) => s.state === 'indexing' || !s.kindsKnown)
  if (missing.length === 0 && !sought) return null
  return (
    <Frame data-missing={missing.length}>
      {missing.length > 0 && (
        <Button variant="contained" onClick={() => setOpen(true)}>
          Add the source that holds {missing.length === 1 ? 'it' : 'them'}
        </Button>
      )}
      {found.length > 0 && (
        <p role="status" data-found={found.length}>
          {found.map((p) => (
            <span key={p.ref}>
              <Tone is="good">{p.name} was found</Tone>: {p.found} ({p.how}).{' '}
            </span>
          ))}
        </p>
      )}
      {sought?.label && still.length > 0 && (
        <p role="status">
          {reading ? (
            `${sought.label} is being read…`
          ) : (
            <Tone is="warn">
              {sought.label} does not hold{' '}
              {named(
                still.map((p) => p.name),
                3,
              )}
              : {plural(still.length, 'picture')} still missing.
            </Tone>
          )}
        </p>
      )}
      {open && (
        <AddSource
          project={project}
          wanted={missing.map((p) => p.ref)}
          onClose={(label) => {
            setOpen(false)
            if (label) setSought({ names: missing.map((p) => p.ref), label })
          }}
        />
      )}
    </Frame>
  )
}
