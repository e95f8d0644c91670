// What is done with several finds at once.
import {
  Button,
  Dialog,
  DialogActions,
  DialogContent,
  DialogTitle,
  Menu,
  MenuItem,
  OutlinedInput,
  Select,
  styled,
} from '@mui/material'
import { useState, type FormEvent } from 'react'
import { useNavigate } from 'react-router'
import { deliver, makeChain, runOver, useChains } from '../../api/chains'
import { findsFile, putTogether, removeFind, useFormats } from '../../api/finds'
import { ApiError, useAct, type S } from '../../api/http'
import { Fault } from '../../parts/bits'
import { count, plural } from '../../parts/format'
import { Tone } from '../../parts/Tone'

const Frame = styled('div')({
  borderTop: '1px solid var(--line)',
  padding: '9px 18px',
  display: 'flex',
  flexWrap: 'wrap',
  gap: 8,
  alignItems: 'center',
  background: 'var(--verdiT)',
  '& > .grow': { flex: 1 },
})

export function Together({
  project,
  chosen,
  onDone,
}: {
  project: number
  chosen: S['Brief'][]
  onDone: () => void
}) {
  const { data: chains } = useChains(project)
  const { act, fault, busy } = useAct(project)
  const go = useNavigate()
  const [saving, setSaving] = useState(false)
  const [said, setSaid] = useState('')
  const [joining, setJoining] = useState(false)
  const [menu, setMenu] = useState<HTMLElement | null>(null)
  const [stopped, setStopped] = useState<S['Chain'][]>([])
  const ready = chosen.filter((x) => x.scene)
  const own = (x: S['Brief']) => chains?.findLast((c) => c.find === x.id)
  const without = ready.filter((x) => !own(x))
  const having = ready.flatMap((x) => own(x) ?? [])
  // One chain for each name: those of one name are one chain over many.
  const named = [...new Map((chains ?? []).map((c) => [c.name, c])).values()]
  const start = () =>
    act(
      async () => {
        const made: S['Chain'][] = []
        for (const x of without) made.push(await makeChain(project, x.id, `${x.name} to engine`))
        return made
      },
      (made) => {
        if (made.length === 1) void go(`/p/${project}/chain/${made[0].id}`)
        else setSaid(`${plural(made.length, 'chain')} started`)
      },
    )
  const deliverAll = (list: S['Chain'][], despite: boolean) => {
    setStopped([])
    act(
      async () => {
        const stops: S['Chain'][] = []
        for (const c of list) {
          try {
            await deliver(c.id, { purpose: 'myself' }, despite)
          } catch (e) {
            if (!despite && e instanceof ApiError && e.message.startsWith('the rehearsal stops'))
              stops.push(c)
            else throw e
          }
        }
        return stops
      },
      (stops) => {
        setStopped(stops)
        setSaid(`${plural(list.length - stops.length, 'delivery', 'deliveries')} begun`)
      },
    )
  }
  return (
    <Frame data-chosen={chosen.length}>
      <b>{plural(chosen.length, 'find')} chosen</b>
      {said && <Tone is="good">{said}</Tone>}
      <Fault error={fault} />
      <span className="grow" />
      <Button
        variant="contained"
        disabled={busy || without.length === 0}
        title={having.length > 0 ? `${plural(having.length, 'has', 'have')} a chain already` : undefined}
        onClick={start}
      >
        Start {without.length === 1 ? 'a chain' : `${count(without.length)} chains`}
      </Button>
      <Button
        disabled={busy || ready.length === 0 || named.length === 0}
        title="A chain of this project, the same for each of them"
        aria-haspopup="menu"
        onClick={(e) => setMenu(e.currentTarget)}
      >
        Run a chain over them…
      </Button>
      <Menu anchorEl={menu} open={!!menu} onClose={() => setMenu(null)}>
        {named.map((c) => (
          <MenuItem
            key={c.id}
            onClick={() => {
              setMenu(null)
              act(
                () =>
                  runOver(
                    c.id,
                    ready.map((x) => x.id),
                  ),
                () => void go(`/p/${project}/over?name=${encodeURIComponent(c.name)}`),
              )
            }}
          >
            {c.name}
          </MenuItem>
        ))}
      </Menu>
      <Button disabled={ready.length === 0} onClick={() => setSaving(true)}>
        Save as…
      </Button>
      <Button
        disabled={busy || ready.length < 2}
        title="One asset of all, each where its own coordinates have it; equal meshes and materials become one"
        onClick={() => setJoining(true)}
      >
        Put together…
      </Button>
      <Button
        disabled={busy || having.length === 0}
        title={having.length < ready.length ? 'Those that have a chain' : undefined}
        onClick={() => deliverAll(having, false)}
      >
        Deliver {count(having.length)}
      </Button>
      <Button
        disabled={busy}
        title="With their chains and what was delivered of them. They can be put back."
        onClick={() =>
          act(async () => {
            for (const x of chosen) await removeFind(x.id)
          }, onDone)
        }
      >
        Take out
      </Button>
      <Button onClick={onDone}>Choose none</Button>
      {joining && <PutTogether project={project} finds={ready} onClose={() => setJoining(false)} />}
      {saving && <SaveAll project={project} finds={ready} onClose={() => setSaving(false)} />}
      <Dialog open={stopped.length > 0} onClose={() => setStopped([])} aria-labelledby="stopped">
        <DialogTitle id="stopped">
          The rehearsal stops {plural(stopped.length, 'delivery', 'deliveries')}
        </DialogTitle>
        <DialogContent>
          <p>
            The target would refuse {stopped.map((c) => c.name).join(', ')}. What is made all the same says so
            for good.
          </p>
        </DialogContent>
        <DialogActions>
          <Button onClick={() => setStopped([])}>Leave them</Button>
          <Button onClick={() => deliverAll(stopped, true)}>Make them all the same</Button>
        </DialogActions>
      </Dialog>
    </Frame>
  )
}

/** Makes one asset of several. */
function PutTogether({
  project,
  finds,
  onClose,
}: {
  project: number
  finds: S['Brief'][]
  onClose: () => void
}) {
  const [name, setName] = useState('put together')
  const { act, fault, busy } = useAct(project)
  const go = useNavigate()
  const submit = (e: FormEvent) => {
    e.preventDefault()
    act(
      () =>
        putTogether(
          project,
          name,
          finds.map((x) => x.id),
        ),
      (f) => {
        onClose()
        void go(`/p/${project}/finds/${f.id}`)
      },
    )
  }
  return (
    <Dialog open onClose={onClose} maxWidth="xs" fullWidth aria-labelledby="put-together">
      <form onSubmit={submit}>
        <DialogTitle id="put-together">Put {plural(finds.length, 'find')} together</DialogTitle>
        <DialogContent>
          <p>
            Each stands where its own coordinates have it. It becomes a source of its own, a list in which
            places can be written, and a find.
          </p>
          <OutlinedInput
            fullWidth
            value={name}
            onChange={(e) => setName(e.target.value)}
            inputProps={{ 'aria-label': 'Name of the assembly', maxLength: 200, spellCheck: false }}
          />
          <Fault error={fault} />
        </DialogContent>
        <DialogActions>
          <Button onClick={onClose}>Not now</Button>
          <Button type="submit" variant="contained" disabled={busy || !name.trim()}>
            Put together
          </Button>
        </DialogActions>
      </form>
    </Dialog>
  )
}

/** Saves all in one format, as a ZIP with a folder each. */
function SaveAll({ project, finds, onClose }: { project: number; finds: S['Brief'][]; onClose: () => void }) {
  const { data } = useFormats()
  const [format, setFormat] = useState('glb')
  const list = data?.filter((f) => f.writes && f.kind !== 'picture') ?? []
  return (
    <Dialog open onClose={onClose} maxWidth="xs" fullWidth aria-labelledby="save-all">
      <DialogTitle id="save-all">Save {plural(finds.length, 'find')}</DialogTitle>
      <DialogContent>
        <p>A ZIP with a folder for each. One that the format cannot hold is named in it with the reason.</p>
        <Select
          fullWidth
          value={list.some((f) => f.name === format) ? format : ''}
          inputProps={{ 'aria-label': 'Format' }}
          onChange={(e) => setFormat(e.target.value)}
        >
          {list.map((f) => (
            <MenuItem key={f.name} value={f.name}>
              {f.title} ({f.ending})
            </MenuItem>
          ))}
        </Select>
      </DialogContent>
      <DialogActions>
        <Button onClick={onClose}>Not now</Button>
        <Button
          variant="contained"
          component="a"
          href={findsFile(
            project,
            format,
            finds.map((x) => x.id),
          )}
          onClick={onClose}
        >
          Save
        </Button>
      </DialogActions>
    </Dialog>
  )
}
