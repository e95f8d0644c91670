// A chain that begins with the steps of another, or of a document: a copy, a
// branch, or the same for another asset.
import {
  Button,
  Dialog,
  DialogActions,
  DialogContent,
  DialogTitle,
  MenuItem,
  OutlinedInput,
  Select,
} from '@mui/material'
import { useState, type FormEvent } from 'react'
import { useNavigate } from 'react-router'
import { likeChain } from '../../api/chains'
import { useFinds } from '../../api/finds'
import { useAct } from '../../api/http'
import { Fault } from '../../parts/bits'
import { Label } from '../../parts/Form'
import { Text } from '../../parts/Text'

export interface Origin {
  title: string
  name: string
  about: string
  chain?: number
  steps?: number
  document?: string
}

export function NewChain({
  project,
  find,
  origin,
  onClose,
}: {
  project: number
  find: number
  origin: Origin
  onClose: () => void
}) {
  const { data: finds } = useFinds(project)
  const [name, setName] = useState(origin.name)
  const [of, setOf] = useState(find)
  const { act, fault, busy } = useAct(project)
  const go = useNavigate()
  const submit = (e: FormEvent) => {
    e.preventDefault()
    const { chain, steps, document } = origin
    act(
      () => likeChain(project, of, name, { chain, steps, document }),
      (c) => {
        onClose()
        void go(`/p/${project}/chain/${c.id}`)
      },
    )
  }
  return (
    <Dialog open onClose={onClose} maxWidth="xs" fullWidth aria-labelledby="new-chain">
      <form onSubmit={submit}>
        <DialogTitle id="new-chain">{origin.title}</DialogTitle>
        <DialogContent>
          <Text as="p" tone="soft">
            {origin.about}
          </Text>
          <Label>Name</Label>
          <OutlinedInput
            fullWidth
            value={name}
            onChange={(e) => setName(e.target.value)}
            inputProps={{ 'aria-label': 'Name of the chain', maxLength: 200, spellCheck: false }}
          />
          <Label>For the asset</Label>
          <Select
            fullWidth
            value={of}
            onChange={(e) => setOf(e.target.value)}
            inputProps={{ 'aria-label': 'Asset of the chain' }}
          >
            {(finds ?? []).map((f) => (
              <MenuItem key={f.id} value={f.id}>
                {f.name}
              </MenuItem>
            ))}
          </Select>
          <Fault error={fault} />
        </DialogContent>
        <DialogActions>
          <Button onClick={onClose}>Not now</Button>
          <Button type="submit" variant="contained" disabled={busy || !name.trim()}>
            Make it
          </Button>
        </DialogActions>
      </form>
    </Dialog>
  )
}
