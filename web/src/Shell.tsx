// The shell: five stages in the order of the work, and what is under way.
import { Button, Dialog, DialogContent, DialogTitle, OutlinedInput, useColorScheme } from '@mui/material'
import { useQueryClient } from '@tanstack/react-query'
import {
  createContext,
  useContext,
  useEffect,
  useRef,
  useState,
  type CSSProperties,
  type ReactNode,
} from 'react'
import { Link, Navigate, NavLink, Outlet, useLocation, useNavigate, useParams } from 'react-router'
import { api, ok, refresh, type S } from './api/http'
import { useEvents, useProject, useProjects } from './api/projects'
import { bytes, count, plural } from './parts/format'
import { takeIn, useUploads } from './parts/upload'
import { Fault } from './parts/bits'

/** The project that the address names. */
export const useProjectId = () => Number(useParams().project)

const Jobs = createContext<S['Job'][]>([])
export const useJobs = () => useContext(Jobs)

export const stages = ['sources', 'finds', 'chain', 'rehearsal', 'delivery'] as const

export function Projects() {
  const { data, error, isLoading } = useProjects()
  const [name, setName] = useState('')
  const [fault, setFault] = useState<unknown>()
  const go = useNavigate()
  if (data?.length === 1) return <Navigate to={`/p/${data[0].id}/finds`} replace />
  const create = async () => {
    try {
      go(`/p/${(await ok(api.POST('/api/projects', { body: { name } }))).id}/sources`)
    } catch (e) {
      setFault(e)
    }
  }
  return (
    <div className="empty">
      <b>Projects</b>
      {isLoading && 'Loading…'}
      <Fault error={error ?? fault} />
      {data?.map((p) => (
        <p key={p.id}>
          <Link to={`/p/${p.id}/finds`}>{p.name}</Link>{' '}
          <span className="soft">
            {plural(p.counts.sources, 'source')}, {plural(p.counts.finds, 'find')}
          </span>
        </p>
      ))}
      <form
        className="row"
        onSubmit={(e) => {
          e.preventDefault()
          void create()
        }}
      >
        <OutlinedInput
          value={name}
          onChange={(e) => setName(e.target.value)}
          placeholder="Name of a new project"
          inputProps={{ 'aria-label': 'Name of a new project', maxLength: 200 }}
        />
        <Button type="submit" variant="contained" disabled={!name.trim()}>
          Make project
        </Button>
      </form>
    </div>
  )
}

export function Shell() {
  const id = useProjectId()
  const { data: p, error } = useProject(id)
  const jobs = useEvents(id)
  const here = useLocation()
  const go = useNavigate()
  const q = useQueryClient()
  const [help, setHelp] = useState(false)
  const { mode, setMode, systemMode } = useColorScheme()
  const last = useRef<Record<string, string>>({})
  const stage = here.pathname.split('/')[3] as (typeof stages)[number] | undefined
  if (stage) last.current[stage] = here.pathname + here.search
  const to = (s: string) => last.current[s] ?? `/p/${id}/${s}`

  useEffect(() => {
    const key = (e: KeyboardEvent) => {
      const t = e.target as HTMLElement
      if (
        e.ctrlKey ||
        e.metaKey ||
        e.altKey ||
        t.closest('input, textarea, [role="combobox"], [role="dialog"]')
      )
        return
      if (e.key >= '1' && e.key <= '5') go(to(stages[Number(e.key) - 1]))
      else if (e.key === '?') setHelp(true)
      else if (e.key === '/') {
        e.preventDefault()
        search()
      }
    }
    window.addEventListener('keydown', key)
    return () => window.removeEventListener('keydown', key)
  })
  useEffect(() => {
    // files and folders may be dropped anywhere
    const mark = (on: boolean) => document.body.classList.toggle('dropping', on)
    const hold = (e: DragEvent) => {
      if (e.dataTransfer?.types.includes('Files')) {
        e.preventDefault()
        mark(true)
      }
    }
    const leave = (e: DragEvent) => {
      if (!e.relatedTarget) mark(false)
    }
    const drop = (e: DragEvent) => {
      e.preventDefault()
      mark(false)
      if (!e.dataTransfer?.items.length) return
      takeIn(id, e.dataTransfer.items, () => void refresh(q, id)) // the foot line tells how far it is
    }
    window.addEventListener('dragover', hold)
    window.addEventListener('dragleave', leave)
    window.addEventListener('drop', drop)
    return () => {
      window.removeEventListener('dragover', hold)
      window.removeEventListener('dragleave', leave)
      window.removeEventListener('drop', drop)
    }
  })
  const search = () => {
    if (stage !== 'sources') go(to('sources'))
    setTimeout(
      () => document.querySelector<HTMLInputElement>('#search')?.focus(),
      stage === 'sources' ? 0 : 60,
    )
  }
  if (!stage) return <Navigate to={`/p/${id}/finds`} replace />
  if (error && !p)
    return (
      <div className="empty">
        <Fault error={error} />
        <Link to="/">All projects</Link>
      </div>
    )
  const c = p?.counts
  const lines: Record<string, ReactNode> = c
    ? {
        sources: (
          <>
            {count(c.sources)} mounted
            {c.sourceProblems > 0 && (
              <>
                {' '}
                · <span className="warn">{c.sourceProblems} with problems</span>
              </>
            )}
          </>
        ),
        finds: (
          <>
            {count(c.finds)} found
            {c.incomplete > 0 && (
              <>
                {' '}
                · <span className="warn">{c.incomplete} incomplete</span>
              </>
            )}
          </>
        ),
        chain: c.chains ? (
          <>
            {plural(c.steps, 'step')} · {c.chainName}
          </>
        ) : (
          'none yet'
        ),
        rehearsal: !c.rehearsed ? (
          'not yet'
        ) : c.stops + c.warns === 0 ? (
          <span className="ok">all holds</span>
        ) : (
          <>
            {c.stops > 0 && <span className="bad">{plural(c.stops, 'stop')}</span>}
            {c.stops > 0 && c.warns > 0 && ' · '}
            {c.warns > 0 && <span className="warn">{plural(c.warns, 'warning')}</span>}
          </>
        ),
        delivery: c.deliveries ? `${c.deliveries} made` : 'none yet',
      }
    : {}
  const dark = (mode === 'system' ? systemMode : mode) === 'dark'
  return (
    <Jobs.Provider value={jobs}>
      <div className="shell">
        <div className="bar">
          <Link to="/" className="project" style={{ textDecoration: 'none', color: 'inherit' }}>
            <b className="clip">{p?.name ?? '…'}</b>
            <span>project · saved</span>
          </Link>
          <nav className="stages" aria-label="Stages">
            {stages.map((s, i) => (
              <NavLink
                key={s}
                to={to(s)}
                className={`stage ${s === stage ? 'on' : ''}`}
                style={{ '--depth': `${3 + 4 * i}px` } as CSSProperties}
                data-stage={s}
              >
                <b>{s[0].toUpperCase() + s.slice(1)}</b>
                <small className="clip">{lines[s] ?? '…'}</small>
              </NavLink>
            ))}
          </nav>
          <div className="search">
            <button onClick={search}>
              <span>Search entries</span>
              <kbd>/</kbd>
            </button>
          </div>
        </div>
        <main style={{ minHeight: 0 }}>
          <Outlet />
        </main>
        <Foot jobs={jobs}>
          <button className="mini" onClick={() => setMode(dark ? 'light' : 'dark')}>
            {dark ? 'Light' : 'Dark'}
          </button>
          <span>Sources are read-only</span>
          <button className="mini" onClick={() => setHelp(true)}>
            <kbd>?</kbd> shortcuts
          </button>
        </Foot>
      </div>
      <Dialog open={help} onClose={() => setHelp(false)}>
        <DialogTitle>Shortcuts</DialogTitle>
        <DialogContent>
          <table>
            <tbody>
              {[
                ['/', 'search entries'],
                ['1 to 5', 'stages'],
                [', and .', 'one band down and up'],
                ['\\', 'compare the chosen band with the one below it'],
                ['=', 'fit the view'],
                ['?', 'this list'],
              ].map(([k, v]) => (
                <tr key={k}>
                  <td>
                    <kbd>{k}</kbd>
                  </td>
                  <td>{v}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </DialogContent>
      </Dialog>
    </Jobs.Provider>
  )
}

/** The foot line: the work under way with its progress, and a way to stop it. */
function Foot({ jobs, children }: { jobs: S['Job'][]; children: ReactNode }) {
  const q = useQueryClient()
  const [, tick] = useState(0)
  const [seen, setSeen] = useState(0)
  const { sending, stop } = useUploads()
  const busy = jobs.filter((j) => j.state === 'running' || j.state === 'queued')
  const job = busy.find((j) => j.state === 'running') ?? busy[0]
  const failed = jobs.find((j) => j.state === 'failed' && j.id > seen)
  useEffect(() => {
    if (!job) return
    const t = setInterval(() => tick((n) => n + 1), 500)
    return () => clearInterval(t)
  }, [job])
  const rate = job && job.seconds > 0.5 ? job.done / job.seconds : 0
  const speed = job && job.seconds > 0.5 ? job.bytes / job.seconds : 0
  // Bytes tell the time better where they are counted: entries differ in size.
  const left = !job
    ? 0
    : speed > 0 && job.bytesTotal > 0
      ? (job.bytesTotal - job.bytes) / speed
      : rate > 0
        ? (job.total - job.done) / rate
        : 0
  const part = !job
    ? 0
    : job.bytesTotal > 0
      ? job.bytes / job.bytesTotal
      : job.total
        ? job.done / job.total
        : 0
  return (
    <div className="foot" role="status">
      {sending ? (
        <>
          <span style={{ color: 'var(--ink)' }}>Taking in {sending.name}</span>
          <span>
            <span className="meter">
              <i style={{ width: `${sending.total ? (100 * sending.sent) / sending.total : 100}%` }} />
            </span>
            {bytes(sending.sent)} of {bytes(sending.total)} · {bytes(sending.rate)}/s
            {sending.rate > 0 &&
              sending.total > sending.sent &&
              ` · ${Math.max(1, Math.round((sending.total - sending.sent) / sending.rate))} s left`}
          </span>
          <button className="mini" onClick={() => stop?.()}>
            Stop
          </button>
        </>
      ) : job ? (
        <>
          <span style={{ color: 'var(--ink)' }}>
            {job.title}
            {busy.length > 1 && ` and ${busy.length - 1} more`}
          </span>
          <span>
            <span className="meter">
              <i style={{ width: `${100 * part}%` }} />
            </span>
            {job.state === 'queued'
              ? 'waits'
              : job.total > 0
                ? `${count(job.done)} of ${count(job.total)} ${job.unit}${job.bytesTotal > 0 ? ` · ${bytes(job.bytes)} of ${bytes(job.bytesTotal)}` : ''}${speed > 0 ? ` · ${bytes(speed)}/s` : ''}${left >= 1 ? ` · ${Math.round(left)} s left` : ''}`
                : 'begins'}
          </span>
          <button
            className="mini"
            onClick={() =>
              void ok(api.POST('/api/jobs/{job}/cancel', { params: { path: { job: job.id } } })).then(() =>
                q.invalidateQueries(),
              )
            }
          >
            Stop
          </button>
        </>
      ) : failed ? (
        <>
          <span className="bad clip">
            {failed.title} failed: {failed.error}
          </span>
          <button className="mini" onClick={() => setSeen(failed.id)}>
            Seen
          </button>
        </>
      ) : (
        <span>Nothing under way</span>
      )}
      <span style={{ marginLeft: 'auto' }} />
      {children}
    </div>
  )
}
