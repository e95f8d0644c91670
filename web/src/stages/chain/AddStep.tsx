// Choosing the step that comes next: by its words or what it is for.
import {
  Button,
  Dialog,
  DialogActions,
  DialogContent,
  DialogTitle,
  OutlinedInput,
  styled,
} from '@mui/material'
import { useRef, useState, type FormEvent } from 'react'
import type { S } from '../../api/http'
import { plural } from '../../parts/format'
import { Text } from '../../parts/Text'

const families: [string, string][] = [
  ['clean', 'Clean up'],
  ['basis', 'Place'],
  ['geometry', 'Meshes'],
  ['material', 'Materials'],
  ['rig', 'Rig and pose'],
]

const List = styled('div')({
  height: 420,
  overflow: 'auto',
  margin: '8px -24px 0',
  padding: '0 24px',
  '& h3': { margin: '14px 0 4px', fontSize: 12, color: 'var(--soft)', fontWeight: 550 },
  '& button': {
    display: 'block',
    width: '100%',
    font: 'inherit',
    color: 'inherit',
    textAlign: 'left',
    background: 'none',
    border: 0,
    borderBottom: '1px solid var(--thin)',
    padding: '7px 8px',
    cursor: 'pointer',
    '&:hover, &:focus-visible': { background: 'var(--verdiT)' },
    '&:focus-visible': { outline: '2px solid var(--slate)', outlineOffset: -2 },
  },
})

/** How much of what a rule takes a step acts on. */
const acts = (k: S['StepKind'], p: S['Proposal']) =>
  k.on === 'nodes'
    ? plural(p.nodes, 'node')
    : k.on === 'parts'
      ? plural(p.parts, 'part')
      : k.on === 'materials'
        ? plural(p.materials, 'material')
        : plural(p.pictures, 'picture')
const some = (k: S['StepKind'], p: S['Proposal']) => !!k.on && p[k.on] > 0

export function AddStep({
  kinds: every,
  on,
  onAdd,
  onClose,
}: {
  kinds: S['StepKind'][]
  /** What was chosen: only steps that act on some things are listed, with how many. */
  on?: S['Proposal']
  onAdd: (name: string) => void
  onClose: () => void
}) {
  const kinds = on ? every.filter((k) => some(k, on)) : every
  const [text, setText] = useState('')
  const field = useRef<HTMLInputElement>(null)
  const words = text.toLowerCase().split(' ').filter(Boolean)
  const fits = (k: S['StepKind']) =>
    words.every((w) => `${k.name} ${k.title} ${k.purpose}`.toLowerCase().includes(w))
  const list = kinds.filter(fits)
  // A step whose name has the words comes before one that only speaks of them.
  const best =
    list.find((k) => words.every((w) => `${k.name} ${k.title}`.toLowerCase().includes(w))) ?? list[0]
  const submit = (e: FormEvent) => {
    e.preventDefault()
    if (best) onAdd(best.name)
  }
  return (
    <Dialog
      open
      onClose={onClose}
      maxWidth="sm"
      fullWidth
      aria-labelledby="add-step"
      slotProps={{ transition: { onEntered: () => field.current?.focus() } }}
    >
      <DialogTitle id="add-step">{on ? 'Act on what is chosen' : 'Add a step'}</DialogTitle>
      <DialogContent>
        {on && (
          <Text as="p" tone="soft" small>
            {on.words}
          </Text>
        )}
        <form onSubmit={submit}>
          <OutlinedInput
            fullWidth
            inputRef={field}
            value={text}
            onChange={(e) => setText(e.target.value)}
            placeholder="What is to be done, such as join, glass, pivot"
            inputProps={{ 'aria-label': 'Search steps', spellCheck: false }}
          />
        </form>
        <List>
          {families.map(([family, title]) => {
            const of = list.filter((k) => k.family === family)
            return (
              of.length > 0 && (
                <section key={family} aria-label={title}>
                  <h3>{title}</h3>
                  {of.map((k) => (
                    <button key={k.name} onClick={() => onAdd(k.name)} data-step={k.name}>
                      <b>{k.title}</b>
                      {on && (
                        <Text tone="soft" small data-acts={k.name}>
                          {' '}
                          {acts(k, on)} here
                        </Text>
                      )}
                      <Text as="div" tone="soft" small>
                        {k.purpose}
                      </Text>
                    </button>
                  ))}
                </section>
              )
            )
          })}
          {list.length === 0 && <p>No step says that. Try fewer words.</p>}
        </List>
      </DialogContent>
      <DialogActions>
        <Button onClick={onClose}>Not now</Button>
      </DialogActions>
    </Dialog>
  )
}
