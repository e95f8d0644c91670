// The bar above every page: the project, the asset at work, the five stages
// with their counts and worst states.
import { Autocomplete, styled, TextField } from '@mui/material'
import { useEffect, useRef, type ReactNode } from 'react'
import { Link, useLocation, useNavigate } from 'react-router'
import { useChains } from '../api/chains'
import { useGallery } from '../api/finds'
import type { S } from '../api/http'
import { stages, type Stage } from '../pages'
import { count, plural } from '../parts/format'
import { Tone } from '../parts/Tone'
import type { Work } from '../parts/work'
import { leave, placeOf, searchPlace } from './places'
import { own } from '../parts/own'

const Frame = styled('header')({
  display: 'flex',
  minWidth: 0,
  borderBottom: '1px solid var(--line)',
  background: 'var(--panel)',
})

const Project = styled('div')({
  width: 232,
  flex: 'none',
  padding: '8px 12px 0 20px',
  borderRight: '1px solid var(--line)',
  minWidth: 0,
  '& a': {
    display: 'block',
    color: 'inherit',
    textDecoration: 'none',
    fontSize: 15,
    fontWeight: 700,
    lineHeight: '22px',
    overflow: 'hidden',
    textOverflow: 'ellipsis',
    whiteSpace: 'nowrap',
  },
  '& a:hover': { textDecoration: 'underline' },
  '@media (max-width: 1150px)': { width: 184 },
})

const Terraces = styled('nav')({ flex: 1, display: 'flex', minWidth: 0 })

/** A stage: the deeper in the work, the deeper the terrace that it stands on. */
const Terrace = styled(
  Link,
  own('depth'),
)<{ depth: number }>(({ depth }) => ({
  flex: 1,
  minWidth: 0,
  padding: '7px 14px 0',
  borderLeft: '1px solid var(--line)',
  position: 'relative',
  color: 'var(--soft)',
  textDecoration: 'none',
  fontSize: 12,
  '& b': { color: 'var(--ink)', fontWeight: 600, fontSize: 14, display: 'block' },
  '& span': { display: 'block', overflow: 'hidden', textOverflow: 'ellipsis', whiteSpace: 'nowrap' },
  '&:first-of-type': { borderLeft: 0 },
  '&::after': {
    content: '""',
    position: 'absolute',
    left: 0,
    right: 0,
    bottom: 0,
    background: 'var(--sunk)',
    height: depth,
  },
  '&[aria-current]': { background: 'var(--verdiT)' },
  '&[aria-current]::after': { background: 'var(--verdi)' },
  '&[aria-current] b': { color: 'var(--verdi)' },
  '&:focus-visible': { outlineOffset: -2 },
}))

const Search = styled('div')({
  width: 186,
  flex: 'none',
  padding: '15px 14px',
  borderLeft: '1px solid var(--line)',
  '@media (max-width: 1150px)': { width: 64, '& span': { display: 'none' } },
  '& button': {
    width: '100%',
    border: '1px solid var(--line)',
    background: 'var(--paper)',
    padding: '5px 10px',
    color: 'var(--soft)',
    font: 'inherit',
    fontSize: 13,
    display: 'flex',
    justifyContent: 'space-between',
    cursor: 'pointer',
  },
})

export function Bar({
  id,
  project,
  stage,
  work,
}: {
  id: number
  project?: S['Project']
  stage?: Stage['id']
  work: Work
}) {
  const here = useLocation()
  const go = useNavigate()
  useEffect(() => {
    if (stage) leave(id, stage, here.pathname + here.search)
  }, [id, stage, here.pathname, here.search])
  // A search that came from another page finds its field once the page is there.
  const wanted = (here.state as { search?: boolean } | null)?.search
  const asked = useRef<string>(undefined)
  useEffect(() => {
    if (!wanted || asked.current === here.key) return
    const t = setInterval(() => {
      const field = document.getElementById('search')
      if (!field) return
      asked.current = here.key
      field.focus()
      clearInterval(t)
    }, 50)
    return () => clearInterval(t)
  }, [wanted, here.key])
  const lines = project ? says(project.counts, work.chain) : undefined
  return (
    <Frame>
      <Project>
        <Link to="/projects" title="All projects">
          {project?.name ?? '…'}
        </Link>
        <AtWork project={id} stage={stage} work={work} />
      </Project>
      <Terraces aria-label="Stages">
        {stages.map((s, i) => (
          <Terrace
            key={s.id}
            to={placeOf(id, s, work)}
            depth={3 + 4 * i}
            aria-current={s.id === stage ? 'page' : undefined}
            data-stage={s.id}
          >
            <b>{s.title}</b>
            <span>{lines?.[s.id] ?? '…'}</span>
          </Terrace>
        ))}
      </Terraces>
      <Search>
        <button
          aria-label="Search entries"
          onClick={() => {
            const field = document.getElementById('search')
            if (field) field.focus()
            else void go(searchPlace(id), { state: { search: true } })
          }}
        >
          <span>Search entries</span>
          <kbd>/</kbd>
        </button>
      </Search>
    </Frame>
  )
}

/** What each stage has and its worst state; of chain and rehearsal, those of the asset at work. */
function says(c: S['Counts'], chain?: number): Record<Stage['id'], ReactNode> {
  return {
    sources: c.sourceProblems ? (
      <>
        {count(c.sources)} mounted · <Tone is="warn">{plural(c.sourceProblems, 'problem')}</Tone>
      </>
    ) : (
      `${count(c.sources)} mounted`
    ),
    finds: c.incomplete ? (
      <>
        {count(c.finds)} · <Tone is="warn">{count(c.incomplete)} incomplete</Tone>
      </>
    ) : (
      count(c.finds)
    ),
    chain: chain && c.chain === chain ? `${plural(c.steps, 'step')} · ${c.chainName}` : 'none yet',
    rehearsal:
      !chain || c.chain !== chain || !c.rehearsed ? 'not yet' : <Verdict stops={c.stops} warns={c.warns} />,
    delivery: c.deliveries ? `${count(c.deliveries)} made` : 'none yet',
  }
}

function Verdict({ stops, warns }: { stops: number; warns: number }) {
  if (stops + warns === 0) return <Tone is="good">all holds</Tone>
  return (
    <>
      {stops > 0 && <Tone is="bad">{plural(stops, 'stop')}</Tone>}
      {stops > 0 && warns > 0 && ' · '}
      {warns > 0 && <Tone is="warn">{plural(warns, 'warning')}</Tone>}
    </>
  )
}

const Field = styled(TextField)({
  '& .MuiInputBase-root': { padding: '0 !important', fontSize: 12, lineHeight: '18px' },
  '& .MuiInputBase-input': {
    padding: '0 22px 0 0 !important',
    textOverflow: 'ellipsis',
    color: 'var(--soft)',
  },
})

interface Asset {
  find: number
  chain?: number
  name: string
  of: string
}

/** How many assets are listed at once; typing narrows them down. */
const MOST = 80

/** The asset at work, and all others to change to. It stays on the stage. */
function AtWork({ project, stage, work }: { project: number; stage?: Stage['id']; work: Work }) {
  const { data: finds } = useGallery(project)
  const { data: chains } = useChains(project)
  const go = useNavigate()
  const names = stages.find((s) => s.id === stage)?.names ?? 'find'
  const list: Asset[] =
    names === 'chain'
      ? (chains ?? []).map((c) => ({
          find: c.find,
          chain: c.id,
          name: finds?.find((f) => f.id === c.find)?.name ?? c.name,
          of: c.name,
        }))
      : (finds ?? []).map((f) => ({ find: f.id, name: f.name, of: f.source }))
  const now = list.find((a) => (names === 'chain' ? a.chain === work.chain : a.find === work.find)) ?? null
  if (list.length === 0) return <Tone is="soft">{finds ? 'no asset yet' : '…'}</Tone>
  return (
    <Autocomplete
      size="small"
      disableClearable={now !== null}
      value={now}
      options={list}
      getOptionLabel={(a) => a.name}
      getOptionKey={(a) => a.chain ?? a.find}
      isOptionEqualToValue={(a, b) => a.find === b.find && a.chain === b.chain}
      filterOptions={(all, { inputValue }) => {
        const t = inputValue.toLowerCase()
        const typed = t && t !== now?.name.toLowerCase()
        return all.filter((a) => !typed || `${a.name} ${a.of}`.toLowerCase().includes(t)).slice(0, MOST)
      }}
      slotProps={{ popper: { style: { width: 320 }, placement: 'bottom-start' } }}
      onChange={(_, a) => {
        if (!a) return
        const to = stages.find((s) => s.id === stage && s.names !== 'nothing') ?? stages[1]
        void go(placeOf(project, to, { find: a.find, chain: a.chain }))
      }}
      renderOption={({ key, ...props }, a) => (
        <li key={key} {...props} data-asset={a.name}>
          <span>
            {a.name} <Tone is="soft">{a.of}</Tone>
          </span>
        </li>
      )}
      renderInput={(p) => (
        <Field
          {...p}
          variant="standard"
          placeholder="choose an asset"
          slotProps={{
            ...p.slotProps,
            input: { ...p.slotProps.input, disableUnderline: true },
            htmlInput: { ...p.slotProps.htmlInput, 'aria-label': 'Asset at work' },
          }}
        />
      )}
    />
  )
}
