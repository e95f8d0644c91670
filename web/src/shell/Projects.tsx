// All projects: opened, made, renamed, copied, carried elsewhere, deleted.
import {
  Button,
  Dialog,
  DialogActions,
  DialogContent,
  DialogTitle,
  OutlinedInput,
  styled,
  Table,
  TableBody,
  TableCell,
  TableHead,
  TableRow,
} from '@mui/material'
import { useQueryClient } from '@tanstack/react-query'
import { useEffect, useRef, useState, type FormEvent } from 'react'
import { Link, Navigate, useNavigate } from 'react-router'
import type { S } from '../api/http'
import {
  copyProject,
  deleteProject,
  importProject,
  lookAtRecipe,
  makeProject,
  projectFile,
  projectKeys,
  openRecipe,
  projectRecipe,
  renameProject,
  useProjects,
} from '../api/projects'
import { Fault } from '../parts/bits'
import { count, plural } from '../parts/format'
import { forgetProject, lastProject } from '../parts/project'
import { Tone } from '../parts/Tone'
import { remembered } from '../parts/work'
import { Shortcuts, useShortcuts } from './Shortcuts'

const Page = styled('main')({
  height: '100%',
  overflow: 'auto',
  padding: '32px 40px',
  '& > *': { maxWidth: 1080 },
  '& h1': { fontSize: 20, margin: '0 0 4px' },
  '& form, & .acts': { display: 'flex', gap: 8, alignItems: 'center', flexWrap: 'wrap' },
  '& .make': { margin: '18px 0' },
})

/** The address without a project leads to the one that was used last. */
export function Start() {
  const { data, error } = useProjects()
  if (!data) return error ? <Fault error={error} /> : null
  const to = data.find((p) => p.id === lastProject()) ?? (data.length === 1 ? data[0] : undefined)
  return <Navigate to={to ? `/p/${to.id}/finds` : '/projects'} replace />
}

export function Projects() {
  const q = useQueryClient()
  const go = useNavigate()
  const { data, error } = useProjects()
  const [fault, setFault] = useState<unknown>()
  const [name, setName] = useState('')
  const [deleting, setDeleting] = useState<S['Project']>()
  const [brought, setBrought] = useState<S['Imported']>()
  const [recipe, setRecipe] = useState<{ file: File; look: S['RecipeLook'] }>()
  const [help, setHelp] = useState(false)
  const file = useRef<HTMLInputElement>(null)
  const last = lastProject()
  useShortcuts(data?.some((p) => p.id === last) ? last : undefined, last ? remembered(last) : {}, () =>
    setHelp(true),
  )
  useEffect(() => {
    document.title = 'Projects · Excavate'
  }, [])
  const act = (change: () => Promise<void>) => {
    setFault(undefined)
    void change()
      .catch(setFault)
      .finally(() => void q.invalidateQueries({ queryKey: projectKeys.list }))
  }
  const make = (e: FormEvent) => {
    e.preventDefault()
    act(async () => void go(`/p/${(await makeProject(name)).id}/sources`))
  }
  return (
    <Page>
      <h1>Projects</h1>
      <Tone is="soft">
        A project keeps its sources, what was found in them, and what was made of it. The files of the sources
        stay where they lie.
      </Tone>
      <form className="make" onSubmit={make}>
        <OutlinedInput
          value={name}
          onChange={(e) => setName(e.target.value)}
          placeholder="Name of a new project"
          inputProps={{ 'aria-label': 'Name of a new project', maxLength: 200 }}
        />
        <Button type="submit" variant="contained" disabled={!name.trim()}>
          Make project
        </Button>
        <Button onClick={() => file.current?.click()}>Bring one in from a file or a recipe…</Button>
        <input
          ref={file}
          type="file"
          accept=".json"
          hidden
          aria-label="File of a project"
          onChange={(e) => {
            const f = e.target.files?.[0]
            e.target.value = ''
            if (f)
              act(async () => {
                if (/"recipe"\s*:\s*\d/.test(await f.slice(0, 4096).text()))
                  setRecipe({ file: f, look: await lookAtRecipe(f) })
                else setBrought(await importProject(f))
              })
          }}
        />
      </form>
      <Fault error={error ?? fault} />
      {data?.length === 0 && <p>There is no project yet. Make one, then add the archives of a game to it.</p>}
      {data && data.length > 0 && (
        <Table size="small" aria-label="Projects">
          <TableHead>
            <TableRow>
              <TableCell>Project</TableCell>
              <TableCell align="right">Sources</TableCell>
              <TableCell align="right">Entries</TableCell>
              <TableCell align="right">Finds</TableCell>
              <TableCell align="right">Chains</TableCell>
              <TableCell align="right">Deliveries</TableCell>
              <TableCell />
            </TableRow>
          </TableHead>
          <TableBody>
            {data.map((p) => (
              <Row
                key={p.id}
                p={p}
                last={p.id === last}
                onRename={(to) => act(async () => void (await renameProject(p.id, to)))}
                onCopy={() => act(async () => void (await copyProject(p.id, `${p.name}, copy`)))}
                onDelete={() => setDeleting(p)}
              />
            ))}
          </TableBody>
        </Table>
      )}
      {deleting && (
        <Ask
          p={deleting}
          onClose={() => setDeleting(undefined)}
          onDelete={() => {
            setDeleting(undefined)
            act(async () => {
              await deleteProject(deleting.id)
              forgetProject(deleting.id)
            })
          }}
        />
      )}
      {recipe && (
        <Recipe
          look={recipe.look}
          onClose={() => setRecipe(undefined)}
          onOpen={() => {
            setRecipe(undefined)
            act(async () => setBrought(await openRecipe(recipe.file, !!recipe.look.problem)))
          }}
        />
      )}
      {brought && <Brought what={brought} onClose={() => setBrought(undefined)} />}
      <Shortcuts open={help} onClose={() => setHelp(false)} />
    </Page>
  )
}

function Row({
  p,
  last,
  onRename,
  onCopy,
  onDelete,
}: {
  p: S['Project']
  last: boolean
  onRename: (name: string) => void
  onCopy: () => void
  onDelete: () => void
}) {
  const [name, setName] = useState<string>()
  return (
    <TableRow data-project={p.name}>
      <TableCell>
        {name === undefined ? (
          <>
            <Link to={`/p/${p.id}/finds`}>{p.name}</Link> {last && <Tone is="soft">used last</Tone>}
          </>
        ) : (
          <form
            onSubmit={(e) => {
              e.preventDefault()
              setName(undefined)
              if (name.trim() && name !== p.name) onRename(name)
            }}
          >
            <OutlinedInput
              value={name}
              onChange={(e) => setName(e.target.value)}
              onKeyDown={(e) => e.key === 'Escape' && setName(undefined)}
              inputProps={{ 'aria-label': `New name of ${p.name}`, maxLength: 200 }}
            />
            <Button type="submit">Rename</Button>
          </form>
        )}
      </TableCell>
      <TableCell align="right">{count(p.counts.sources)}</TableCell>
      <TableCell align="right">{count(p.counts.entries)}</TableCell>
      <TableCell align="right">{count(p.counts.finds)}</TableCell>
      <TableCell align="right">{count(p.counts.chains)}</TableCell>
      <TableCell align="right">{count(p.counts.deliveries)}</TableCell>
      <TableCell align="right">
        <span className="acts">
          <Button aria-label={`Rename ${p.name}`} onClick={() => setName(p.name)}>
            Rename
          </Button>
          <Button aria-label={`Copy ${p.name}`} onClick={onCopy}>
            Copy
          </Button>
          <Button
            aria-label={`Export ${p.name}`}
            component="a"
            href={projectFile(p.id)}
            title="What was done in it as a file, without the bytes of its sources"
          >
            Export
          </Button>
          <Button
            aria-label={`Recipe of ${p.name}`}
            component="a"
            href={projectRecipe(p.id)}
            title="What is known in it, for somebody with an own copy of the sources: names, digests, layouts, chains, sheets"
          >
            Recipe
          </Button>
          <Button aria-label={`Delete ${p.name}`} onClick={onDelete}>
            Delete…
          </Button>
        </span>
      </TableCell>
    </TableRow>
  )
}

/** Deleting cannot be undone: it says what goes. */
function Ask({ p, onDelete, onClose }: { p: S['Project']; onDelete: () => void; onClose: () => void }) {
  const c = p.counts
  const goes = [
    c.finds > 0 && plural(c.finds, 'find'),
    c.chains > 0 && plural(c.chains, 'chain'),
    c.deliveries > 0 && plural(c.deliveries, 'delivery', 'deliveries'),
  ].filter(Boolean)
  return (
    <Dialog open onClose={onClose} maxWidth="xs" fullWidth aria-labelledby="delete">
      <DialogTitle id="delete">Delete {p.name}?</DialogTitle>
      <DialogContent>
        <p>
          {goes.length > 0
            ? `With it go ${goes.join(', ')}, its layouts, name rules and bookmarks.`
            : 'Nothing was found in it yet. Its layouts, name rules and bookmarks go with it.'}{' '}
          {c.sources > 0 && `The files of its ${plural(c.sources, 'source')} stay where they lie. `}
          This cannot be undone; an export keeps what was done.
        </p>
      </DialogContent>
      <DialogActions>
        <Button onClick={onClose}>Keep it</Button>
        <Button component="a" href={projectFile(p.id)}>
          Export
        </Button>
        <Button color="error" variant="contained" onClick={onDelete}>
          Delete it
        </Button>
      </DialogActions>
    </Dialog>
  )
}

function Brought({ what, onClose }: { what: S['Imported']; onClose: () => void }) {
  return (
    <Dialog open onClose={onClose} maxWidth="sm" fullWidth aria-labelledby="brought">
      <DialogTitle id="brought">{what.project.name} is here</DialogTitle>
      <DialogContent>
        {what.remarks.length === 0 ? (
          <p>All its sources are where they were. They are being indexed, and its finds decoded.</p>
        ) : (
          <>
            <p>What could not be had here:</p>
            <ul>
              {what.remarks.map((r) => (
                <li key={r}>{r}</li>
              ))}
            </ul>
          </>
        )}
      </DialogContent>
      <DialogActions>
        <Button onClick={onClose}>Stay here</Button>
        <Button variant="contained" component={Link} to={`/p/${what.project.id}/sources`}>
          Open it
        </Button>
      </DialogActions>
    </Dialog>
  )
}

/** What a recipe holds and needs, before it is opened. */
function Recipe({
  look,
  onClose,
  onOpen,
}: {
  look: S['RecipeLook']
  onClose: () => void
  onOpen: () => void
}) {
  return (
    <Dialog open onClose={onClose} maxWidth="sm" fullWidth aria-labelledby="recipe">
      <DialogTitle id="recipe">Recipe of {look.name}</DialogTitle>
      <DialogContent>
        {look.problem ? (
          <p>
            <Tone is="bad">{look.problem}</Tone>
          </p>
        ) : (
          <p>{look.signedBy ? `Signed by ${look.signedBy}.` : 'It is not signed.'}</p>
        )}
        {look.sources.map((s) => (
          <p key={s.name} data-recipe-source={s.name}>
            <b>{s.name}</b>:{' '}
            {s.path ? (
              <>
                <Tone is={s.same ? 'good' : 'warn'}>
                  {s.same ? 'the same lies here' : 'found by its name'}
                </Tone>
                , {s.path}
              </>
            ) : (
              <Tone is="bad">no copy lies in the library folders</Tone>
            )}
          </p>
        ))}
        <p>It does nothing but this:</p>
        <ul>
          {look.lines.map((l) => (
            <li key={l}>{l}</li>
          ))}
        </ul>
        {!look.whole && <p>It is the recipe of a delivery: it is opened with “excavate recipe open”.</p>}
      </DialogContent>
      <DialogActions>
        <Button onClick={onClose}>Leave it</Button>
        <Button variant="contained" disabled={!look.whole} onClick={onOpen}>
          {look.problem ? 'Open it all the same' : 'Open it'}
        </Button>
      </DialogActions>
    </Dialog>
  )
}
