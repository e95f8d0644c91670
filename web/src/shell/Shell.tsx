// The shell: five stages in the order of the work, the asset at work, and what
// is under way.
import { styled } from '@mui/material'
import { useQueryClient } from '@tanstack/react-query'
import { Suspense, useEffect, useMemo, useState } from 'react'
import { matchPath, Outlet, useLocation } from 'react-router'
import { useChains } from '../api/chains'
import { useFind } from '../api/finds'
import { refresh } from '../api/http'
import { useEvents, useProject } from '../api/projects'
import { pages } from '../pages'
import { Fault } from '../parts/bits'
import { Lost } from '../parts/Lost'
import { rememberProject, useProjectId } from '../parts/project'
import { takeIn } from '../parts/upload'
import { remember, remembered, WorkContext, workOf, type Work } from '../parts/work'
import { Bar } from './Bar'
import { Foot } from './Foot'
import { Shortcuts, useShortcuts } from './Shortcuts'

const Frame = styled('div')({
  display: 'grid',
  gridTemplateRows: '64px minmax(0,1fr) 28px',
  height: '100%',
  '& > main': { minHeight: 0, minWidth: 0 },
})

const Title = styled('h1')({
  position: 'absolute',
  width: 1,
  height: 1,
  margin: 0,
  overflow: 'hidden',
  clipPath: 'inset(50%)',
  whiteSpace: 'nowrap',
})

const named = (params: Record<string, string | undefined>) => Number(params.find ?? params.chain ?? 0)

/** The page of an address, and what its last part names. */
function usePage() {
  const { pathname } = useLocation()
  for (const p of pages) {
    const m = matchPath(`/p/:project/${p.path}`, pathname)
    if (m) return { page: p, named: named(m.params) }
  }
  return { page: undefined, named: 0 }
}

export function Shell() {
  const id = useProjectId()
  return Number.isSafeInteger(id) && id > 0 ? <Project id={id} /> : <Lost />
}

function Project({ id }: { id: number }) {
  const { page, named: asset } = usePage()
  const { data: chains } = useChains(id)
  const [was, setWas] = useState<{ project: number; work: Work }>(() => ({
    project: id,
    work: remembered(id),
  }))
  const before = was.project === id ? was.work : remembered(id)
  const work = useMemo(
    () => workOf(page?.stage ?? '', asset, before, chains ?? []),
    [page?.stage, asset, before, chains],
  )
  if (was.project !== id || work.find !== was.work.find || work.chain !== was.work.chain)
    setWas({ project: id, work })
  const { data: project, error } = useProject(id, work.chain)
  const { data: find } = useFind(id, work.find)
  const jobs = useEvents(id)
  const [help, setHelp] = useState(false)
  useShortcuts(id, work, () => setHelp(true))
  useDrop(id)
  const of = page && page.stage !== 'sources' && (asset || page.stage !== 'finds') ? find?.name : undefined
  const title = page ? (of ? `${page.title} of ${of}` : page.title) : 'Not found'
  useEffect(() => {
    document.title = [title, project?.name, 'Excavate'].filter(Boolean).join(' · ')
  }, [title, project?.name])
  useEffect(() => {
    if (project) rememberProject(project.id)
  }, [project])
  useEffect(() => remember(id, work), [id, work])
  return (
    <WorkContext.Provider value={work}>
      <Frame>
        <Bar id={id} project={project} stage={page?.stage} work={work} />
        <main>
          <Title>{title}</Title>
          {error ? (
            <Fault error={error} />
          ) : (
            <Suspense fallback={null}>
              <Outlet />
            </Suspense>
          )}
        </main>
        <Foot jobs={jobs} onHelp={() => setHelp(true)} />
      </Frame>
      <Shortcuts open={help} onClose={() => setHelp(false)} />
    </WorkContext.Provider>
  )
}

/** Files and folders may be dropped anywhere; the foot line tells how far they are. */
function useDrop(project: number) {
  const q = useQueryClient()
  useEffect(() => {
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
      if (e.dataTransfer?.items.length) takeIn(project, e.dataTransfer.items, () => void refresh(q, project))
    }
    window.addEventListener('dragover', hold)
    window.addEventListener('dragleave', leave)
    window.addEventListener('drop', drop)
    return () => {
      window.removeEventListener('dragover', hold)
      window.removeEventListener('dragleave', leave)
      window.removeEventListener('drop', drop)
    }
  }, [project, q])
}
