// The entry table: flat, as a tree, or by sets; chosen with mouse and keyboard.
import { MenuItem, OutlinedInput, Select, ToggleButton, ToggleButtonGroup } from '@mui/material'
import { keepPreviousData, useQueries, useQuery, useQueryClient } from '@tanstack/react-query'
import { useVirtualizer } from '@tanstack/react-virtual'
import { useDeferredValue, useEffect, useRef, useState, type KeyboardEvent, type MouseEvent } from 'react'
import { entryKeys, entryPage, outline, pictureUrl, previewOf, sets, type Sort } from '../../api/entries'
import { keepSelection, keptSelection } from '../../api/extractions'
import type { S } from '../../api/http'
import { Fault } from '../../parts/bits'
import { bytes, count, plural, split } from '../../parts/format'
import { ExtractBar } from './Extract'
import type { Put } from '../../parts/address'
import { Empty } from '../../parts/Empty'
import { Pane } from '../../parts/Pane'
import { Row } from '../../parts/Row'
import { Scroll } from '../../parts/Scroll'
import { Tag } from '../../parts/Tag'
import { TagButton } from '../../parts/TagButton'
import { Text } from '../../parts/Text'
import { TextButton } from '../../parts/TextButton'
import { Tools } from '../../parts/Tools'

const PAGE = 200
const kindWords: Record<S['Kind'], [string, string]> = {
  model: ['model', 'models'],
  picture: ['picture', 'pictures'],
  archive: ['archive', 'archives'],
  sound: ['sound', 'sounds'],
  text: ['text', 'texts'],
  data: ['other', 'other'],
  '': ['being read', 'being read'],
}
const sizes: [string, string, number, number][] = [
  ['', 'Any size', 0, 0],
  ['s', 'Under 10 KB', 0, 9_999],
  ['m', '10 KB to 1 MB', 10_000, 999_999],
  ['l', '1 to 100 MB', 1_000_000, 99_999_999],
  ['x', '100 MB and more', 100_000_000, 0],
]

type Line =
  | { is: 'entry'; entry: S['Entry']; depth: number; name?: string }
  | {
      is: 'folder'
      folder: string
      name: string
      depth: number
      open: boolean
      entries: number
      bytes: number
    }
  | { is: 'set'; set: S['SetPage']['sets'][number] }
interface Page {
  total: number
  all: number
  kinds?: Record<string, number>
  milliseconds: number
  bytes?: number
  at?: number
  lines: Line[]
}

/** What is chosen: entries by name, or all that fit a filter but for some. */
export type Chosen = S['Selection']
const nothing = (c: Chosen) => !c.filter && !c.ids?.length && !c.folders?.length && !c.sets?.length

export function Entries({
  project,
  sources,
  filter,
  view,
  sort,
  open,
  sel,
  entry,
  put,
}: {
  project: number
  sources?: S['Source'][]
  filter: S['Filter']
  view: string
  sort: string
  open: string
  sel: string
  entry: number
  put: Put
}) {
  const client = useQueryClient()
  const [text, setText] = useState(filter.q ?? '')
  const search = useDeferredValue(text)
  const timer = useRef(0)
  const scroll = useRef<HTMLDivElement>(null)
  const now: S['Filter'] = { ...filter, q: search || undefined }
  const folders = open ? open.split('|') : []
  const all = { ...now, kind: now.kind || undefined }
  const query = (page: number, at?: number) => ({
    queryKey: entryKeys.page(
      project,
      view,
      JSON.stringify(all),
      view === 'tree' ? open : sort,
      page,
      at ?? 0,
    ),
    queryFn: async ({ signal }: { signal: AbortSignal }): Promise<Page> => {
      const q = { ...all, offset: page * PAGE, limit: PAGE }
      if (view === 'tree') {
        const o = await outline(project, { ...q, open: folders }, signal)
        return {
          ...o,
          lines: o.lines.map((l) =>
            l.entry
              ? { is: 'entry', entry: l.entry, depth: l.depth, name: l.name }
              : {
                  is: 'folder',
                  folder: l.folder!,
                  name: l.name,
                  depth: l.depth,
                  open: !!l.open,
                  entries: l.entries!,
                  bytes: l.bytes!,
                },
          ),
        }
      }
      if (view === 'sets') {
        const s = await sets(project, q, signal)
        return { ...s, lines: s.sets.map((set) => ({ is: 'set', set })) }
      }
      const e = await entryPage(project, { ...q, sort: (sort || undefined) as Sort | undefined, at }, signal)
      return { ...e, lines: e.entries.map((entry) => ({ is: 'entry', entry, depth: 0 })) }
    },
  })
  const first = useQuery({ ...query(0), placeholderData: keepPreviousData })
  const total = first.data?.total ?? 0
  const rows = useVirtualizer({
    count: total,
    getScrollElement: () => scroll.current,
    estimateSize: () => 29,
    overscan: 12,
  })
  const seen = rows.getVirtualItems()
  const pages = [...new Set(seen.map((r) => Math.floor(r.index / PAGE)))].filter((p) => p > 0)
  const more = useQueries({ queries: pages.map((p) => query(p)) })
  const page = (p: number) =>
    p === 0 ? first.data : (more[pages.indexOf(p)]?.data ?? client.getQueryData<Page>(query(p).queryKey))
  const at = (i: number) => page(Math.floor(i / PAGE))?.lines[i % PAGE]
  const key = (l?: Line) =>
    !l ? '' : l.is === 'entry' ? `e${l.entry.id}` : l.is === 'folder' ? `f${l.folder}` : `s${l.set.key}`

  // The row under the cursor, and where a range begins.
  const [cursor, setCursor] = useState(-1)
  const anchor = useRef(-1)
  const ahead = useRef(0)
  const [chosen, setChosen] = useState<Chosen>({})
  const here = at(cursor)

  useEffect(() => {
    scroll.current?.scrollTo(0, 0)
    setCursor(-1)
  }, [search, filter.kind, filter.source, filter.set, filter.min, filter.max, sort, view])
  useEffect(() => {
    if ((filter.q ?? '') !== text) setText(filter.q ?? '')
  }, [filter.q]) // eslint-disable-line
  // An address with an entry: its place is asked for once, and comes too late
  // if another row was gone to meanwhile.
  const placed = useRef(0)
  const moved = useRef(0)
  useEffect(() => {
    if (!entry || placed.current === entry || view === 'tree' || view === 'sets' || !first.data) return
    placed.current = entry
    const before = moved.current
    void client
      .fetchQuery(query(0, entry))
      .then((p) => {
        if (p.at !== undefined && p.at >= 0 && moved.current === before) {
          setCursor(p.at)
          anchor.current = p.at
          rows.scrollToIndex(p.at)
        }
      })
      .catch(() => {})
  }, [entry, first.data]) // eslint-disable-line
  // An address with a selection.
  const kept = useRef('')
  useEffect(() => {
    if (!sel || kept.current === sel) return
    kept.current = sel
    void keptSelection(project, sel)
      .then((s) => setChosen(s.selection))
      .catch(() => put({ sel: '' }))
  }, [sel]) // eslint-disable-line
  const saving = useRef(0)
  const choose = (c: Chosen) => {
    setChosen(c)
    window.clearTimeout(saving.current)
    saving.current = window.setTimeout(() => {
      if (nothing(c) || (c.ids?.length === 1 && !c.filter && !c.folders?.length && !c.sets?.length)) {
        kept.current = ''
        put({ sel: '' })
        return
      } // one entry has its own address
      void keepSelection(project, c)
        .then((s) => {
          kept.current = s.digest
          put({ sel: s.digest })
        })
        .catch(() => {})
    }, 250)
  }
  const only = (l: Line): Chosen =>
    l.is === 'entry'
      ? { ids: [l.entry.id] }
      : l.is === 'folder'
        ? { folders: [l.folder] }
        : { sets: [l.set.key] }
  const everything = chosen.filter && JSON.stringify(chosen.filter) === JSON.stringify(all)
  const isChosen = (l: Line) => {
    if (l.is === 'entry')
      return (
        (everything && !chosen.except?.includes(l.entry.id)) ||
        !!chosen.ids?.includes(l.entry.id) ||
        !!chosen.folders?.some((f) => l.entry.path.startsWith(`${f}/`))
      )
    if (l.is === 'folder') return everything || !!chosen.folders?.includes(l.folder)
    return everything || !!chosen.sets?.includes(l.set.key)
  }
  const toggle = (l: Line) => {
    const flip = <T,>(list: T[] | undefined, x: T) =>
      list?.includes(x) ? list.filter((y) => y !== x) : [...(list ?? []), x]
    if (l.is === 'folder') return choose({ ...chosen, folders: flip(chosen.folders, l.folder) })
    if (l.is === 'set') return choose({ ...chosen, sets: flip(chosen.sets, l.set.key) })
    if (everything) return choose({ ...chosen, except: flip(chosen.except, l.entry.id) })
    choose({ ...chosen, ids: flip(chosen.ids, l.entry.id) })
  }
  const range = async (to: number) => {
    const [a, b] = [Math.min(Math.max(anchor.current, 0), to), Math.max(anchor.current, to)]
    const lines: Line[] = []
    for (let p = Math.floor(a / PAGE); p <= Math.floor(b / PAGE); p++) {
      const got = await client.fetchQuery({ ...query(p), staleTime: 5_000 })
      got.lines.forEach((l, i) => {
        if (p * PAGE + i >= a && p * PAGE + i <= b) lines.push(l)
      })
    }
    choose({
      ids: lines.flatMap((l) => (l.is === 'entry' ? [l.entry.id] : [])),
      folders: lines.flatMap((l) => (l.is === 'folder' ? [l.folder] : [])),
      sets: lines.flatMap((l) => (l.is === 'set' ? [l.set.key] : [])),
    })
  }
  const show = (i: number, l?: Line) => {
    setCursor(i)
    const e = l?.is === 'entry' ? l.entry.id : l?.is === 'set' ? l.set.first : 0
    if (!e) return
    placed.current = e
    put({ entry: String(e) })
    window.clearTimeout(ahead.current)
    ahead.current = window.setTimeout(() => {
      // the neighbours, once this one is shown
      for (const n of [at(i + 1), at(i - 1)]) {
        if (n?.is !== 'entry' || n.entry.size > 8_000_000) continue
        void client.prefetchQuery(previewOf(project, n.entry.id))
        if (n.entry.kind === 'picture') new Image().src = pictureUrl(n.entry.id)
      }
    }, 30)
  }
  const openFolder = (folder: string, on: boolean) =>
    put({
      open: (on
        ? [...folders, folder]
        : folders.filter((f) => f !== folder && !f.startsWith(`${folder}/`))
      ).join('|'),
    })
  const click = (e: MouseEvent, i: number, l: Line) => {
    moved.current++
    if (e.shiftKey) {
      void range(i)
      setCursor(i)
      return
    }
    anchor.current = i
    if (e.ctrlKey || e.metaKey) {
      toggle(l)
      setCursor(i)
      return
    }
    choose(only(l))
    show(i, l)
    if (l.is === 'folder') openFolder(l.folder, !l.open)
  }
  const go = (to: number, extend: boolean) => {
    const i = Math.min(Math.max(to, 0), total - 1),
      l = at(i)
    if (i < 0) return
    moved.current++
    rows.scrollToIndex(i)
    if (!l) {
      setCursor(i)
      return
    }
    if (extend) {
      void range(i)
      setCursor(i)
      return
    }
    anchor.current = i
    choose(only(l))
    show(i, l)
  }
  const keys = (e: KeyboardEvent) => {
    const by = { ArrowDown: 1, ArrowUp: -1, PageDown: 15, PageUp: -15 }[e.key]
    if (by) {
      e.preventDefault()
      go(cursor + by, e.shiftKey)
    } else if (e.key === 'Home') {
      e.preventDefault()
      go(0, e.shiftKey)
    } else if (e.key === 'End') {
      e.preventDefault()
      go(total - 1, e.shiftKey)
    } else if (e.key === 'a' && (e.ctrlKey || e.metaKey)) {
      e.preventDefault()
      choose({ filter: all })
    } else if (e.key === ' ' && here) {
      e.preventDefault()
      toggle(here)
    } else if (e.key === 'Escape') choose({})
    else if (
      here?.is === 'folder' &&
      (e.key === 'ArrowRight' || e.key === 'ArrowLeft' || e.key === 'Enter')
    ) {
      e.preventDefault()
      openFolder(here.folder, e.key === 'Enter' ? !here.open : e.key === 'ArrowRight')
    }
  }
  const change = (v: string) => {
    setText(v)
    window.clearTimeout(timer.current)
    timer.current = window.setTimeout(() => put({ q: v }), 300)
  }
  const header = (name: string, k: string, cls = '') => (
    <span className={cls}>
      {view === 'flat' || !view ? (
        <button
          onClick={() => put({ sort: sort === k ? `-${k}` : sort === `-${k}` ? '' : k })}
          aria-label={`Sort by ${name}`}
        >
          {name}
          {sort === k ? ' ↑' : sort === `-${k}` ? ' ↓' : ''}
        </button>
      ) : (
        name
      )}
    </span>
  )
  const size = sizes.find(([, , lo, hi]) => (filter.min ?? 0) === lo && (filter.max ?? 0) === hi)?.[0] ?? ''
  const kinds = Object.entries(first.data?.kinds ?? {}).sort((a, b) => b[1] - a[1])
  return (
    <Pane column>
      <Tools>
        <OutlinedInput
          id="search"
          className="grow"
          value={text}
          onChange={(e) => change(e.target.value)}
          placeholder="Part of a path, or a pattern such as *_c.*"
          inputProps={{ 'aria-label': 'Search entries', spellCheck: false }}
          onKeyDown={(e) => {
            if (e.key === 'ArrowDown') {
              e.preventDefault()
              scroll.current?.focus()
              go(Math.max(cursor, 0) + (cursor < 0 ? 0 : 1), false)
            }
            if (e.key === 'Escape') change('')
          }}
        />
        <ToggleButtonGroup
          exclusive
          size="small"
          value={view || 'flat'}
          aria-label="View"
          onChange={(_, v: string | null) => v && put({ view: v === 'flat' ? '' : v })}
        >
          <ToggleButton value="flat">Flat</ToggleButton>
          <ToggleButton value="tree">Tree</ToggleButton>
          <ToggleButton value="sets">Sets</ToggleButton>
        </ToggleButtonGroup>
        <Select
          value={size}
          displayEmpty
          inputProps={{ 'aria-label': 'Size' }}
          onChange={(e) => {
            const s = sizes.find((x) => x[0] === e.target.value)!
            put({ min: s[2] ? String(s[2]) : '', max: s[3] ? String(s[3]) : '' })
          }}
        >
          {sizes.map(([k, label]) => (
            <MenuItem key={k} value={k}>
              {label}
            </MenuItem>
          ))}
        </Select>
      </Tools>
      <Tools low>
        {kinds.map(([k, n]) => (
          <TagButton
            key={k}
            tone={filter.kind === k ? 'good' : 'plain'}
            aria-pressed={filter.kind === k}
            onClick={() => k && put({ kind: filter.kind === k ? '' : k })}
          >
            {kindWords[k as S['Kind']][1]} {count(n)}
          </TagButton>
        ))}
        {filter.set && (
          <TagButton tone="good" onClick={() => put({ set: '' })}>
            set {filter.set} ✕
          </TagButton>
        )}
        {view === 'tree' && (
          <TextButton onClick={() => put({ open: open === '*' ? '' : '*' })}>
            {open === '*' ? 'Close all folders' : 'Open all folders'}
          </TextButton>
        )}
        <span className="grow" />
        <Text tone="soft" small data-total={total}>
          {view === 'sets'
            ? `${plural(total, 'set')} among `
            : view === 'tree'
              ? `${plural(total, 'line')} for `
              : `${count(total)} of `}
          {view === 'tree' || view === 'sets'
            ? plural(first.data?.all ?? 0, 'entry', 'entries')
            : count(first.data?.all ?? 0)}
          {first.data && ` · ${Math.max(1, Math.round(first.data.milliseconds))} ms`}
        </Text>
      </Tools>
      <Fault error={first.error} />
      <div className="grid th">
        {header(view === 'sets' ? 'Set' : 'Entry', 'path')}
        {header('Kind', 'kind')}
        {header('Size', 'size', 'n')}
        <span className="n">{view === 'sets' ? '' : 'Packed'}</span>
        <span className="n">{view === 'sets' ? 'Entries' : 'Needs'}</span>
        <span>{view === 'sets' ? '' : 'Source'}</span>
      </div>
      <Scroll
        ref={scroll}
        tabIndex={0}
        role="listbox"
        aria-label="Entries"
        aria-multiselectable
        aria-activedescendant={cursor >= 0 ? `row-${cursor}` : undefined}
        onKeyDown={keys}
      >
        <div style={{ height: rows.getTotalSize(), position: 'relative' }}>
          {seen.map((r) => {
            const l = at(r.index)
            const on = l && isChosen(l)
            return (
              // Keys are the list's: it has the focus, and says which row is active.
              // eslint-disable-next-line jsx-a11y/click-events-have-key-events
              <div
                key={r.key}
                id={`row-${r.index}`}
                tabIndex={-1}
                className={`grid line ${on ? 'on' : ''} ${r.index === cursor ? 'here' : ''}`}
                role="option"
                aria-selected={!!on}
                data-row={key(l)}
                data-entry={l?.is === 'entry' ? l.entry.path : undefined}
                data-folder={l?.is === 'folder' ? l.folder : undefined}
                data-set={l?.is === 'set' ? l.set.key : undefined}
                style={{
                  position: 'absolute',
                  top: 0,
                  left: 0,
                  right: 0,
                  height: 29,
                  transform: `translateY(${r.start}px)`,
                }}
                onMouseDown={(e) => {
                  // The list keeps the focus: a row leaves the page when it is scrolled away.
                  e.preventDefault()
                  scroll.current?.focus({ preventScroll: true })
                }}
                onClick={(e) => l && click(e, r.index, l)}
              >
                {!l ? (
                  <Text tone="soft">…</Text>
                ) : l.is === 'entry' ? (
                  <EntryCells e={l.entry} depth={l.depth} name={l.name} />
                ) : l.is === 'folder' ? (
                  <>
                    <Text clip style={{ paddingLeft: l.depth * 16 }}>
                      <Text tone="soft" mono>
                        {l.open ? '▾ ' : '▸ '}
                      </Text>
                      {l.name}/
                    </Text>
                    <Text tone="soft">folder · {count(l.entries)}</Text>
                    <span className="n">{bytes(l.bytes)}</span>
                    <span />
                    <span />
                    <span />
                  </>
                ) : (
                  <>
                    <Text clip>{l.set.key}</Text>
                    <Text tone="soft" clip>
                      {Object.entries(l.set.kinds)
                        .map(([k, n]) => `${count(n)} ${kindWords[k as S['Kind']][n === 1 ? 0 : 1]}`)
                        .join(', ')}
                    </Text>
                    <span className="n">{bytes(l.set.bytes)}</span>
                    <span />
                    <span className="n">{count(l.set.entries)}</span>
                    <span />
                  </>
                )}
              </div>
            )
          })}
        </div>
        {first.data && total === 0 && (
          <Empty>
            <b>{first.data.all === 0 ? 'No entries yet' : 'Nothing fits'}</b>
            {first.data.all === 0
              ? sources?.some((s) => s.state === 'indexing')
                ? 'The sources are being indexed.'
                : 'Add a source on the left; its entries appear here.'
              : view === 'sets'
                ? 'A set is two or more entries whose names are the same but for what the name rules take off. Keep a rule on the left, or clear the filters.'
                : 'Search by part of a path, or clear the filters.'}
          </Empty>
        )}
      </Scroll>
      <ExtractBar
        project={project}
        chosen={chosen}
        filter={all}
        fits={view === 'flat' || !view ? total : undefined}
      />
    </Pane>
  )
}

function EntryCells({ e, depth, name }: { e: S['Entry']; depth: number; name?: string }) {
  const [dir, base] = split(e.path)
  const whole = e.needs !== undefined && e.found === e.needs
  return (
    <>
      <Row as="span" style={{ minWidth: 0, paddingLeft: depth * 16 }}>
        <Text clip title={e.path}>
          {name ? (
            name
          ) : (
            <>
              <Text tone="soft">{dir}</Text>
              {base}
            </>
          )}
        </Text>
        {e.overriddenBy && (
          <Tag clip title={`${e.overriddenBy} wins for this path`}>
            overridden by {e.overriddenBy}
          </Tag>
        )}
        {e.others && (
          <Tag
            tone="good"

            title={`${e.others.join(', ')} hold${e.others.length === 1 ? 's' : ''} this path too`}
          >
            wins
          </Tag>
        )}
        {e.error && (
          <Tag tone="bad" title={e.error}>
            cannot be read
          </Tag>
        )}
      </Row>
      <Text clip>
        {kindWords[e.kind][0]}
        {e.format && <Text tone="soft"> · {e.format}</Text>}
      </Text>
      <span className="n">{bytes(e.size)}</span>
      <span className="n">
        {e.size > 0 && e.packed >= 0 ? `${Math.round((100 * e.packed) / e.size)}%` : '–'}
      </span>
      <span className={`n ${e.needs === undefined ? '' : whole ? 'ok' : 'warn'}`}>
        {e.needs === undefined ? '' : `${e.found} of ${e.needs}`}
      </span>
      <Text tone="soft" clip title={e.sourceLabel}>
        {e.sourceLabel}
      </Text>
    </>
  )
}
