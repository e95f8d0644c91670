// The entry table: flat, as a tree, or by sets; chosen with mouse and keyboard.
import { useDeferredValue, useRef } from 'react'
import type { S } from '../../api/http'
import { Fault } from '../../parts/bits'
import type { Put } from '../../parts/address'
import { Empty } from '../../parts/Empty'
import { useHeld } from '../../parts/hooks'
import { Pane } from '../../parts/Pane'
import { Scroll } from '../../parts/Scroll'
import { Cells } from './Cells'
import { useChoice } from './choice'
import { ExtractBar } from './Extract'
import { keyOf, LINE, useLines, type Listing } from './lines'
import { TableTools } from './TableTools'
import { useWalk } from './walk'

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
  const scroll = useRef<HTMLDivElement>(null)
  const [text, setText] = useHeld(filter.q ?? '', (q) => put({ q }), 300)
  const search = useDeferredValue(text)
  const listing: Listing = { project, filter: { ...filter, q: search || undefined }, view, sort, open }
  const lines = useLines(listing, scroll)
  const { first, total } = lines
  const choice = useChoice(project, listing.filter, sel, put)
  const walk = useWalk(listing, lines, choice, entry, put)
  const focus = () => scroll.current?.focus({ preventScroll: true })
  const flat = view === 'flat' || !view
  const heading = (name: string, key: string, cls = '') => (
    <Heading name={name} of={key} sort={sort} fixed={!flat} className={cls} put={put} />
  )
  return (
    <Pane column>
      <TableTools
        text={text}
        filter={filter}
        view={view}
        open={open}
        total={total}
        page={first.data}
        put={put}
        onText={setText}
        onDown={() => {
          focus()
          walk.next()
        }}
      />
      <Fault error={first.error} />
      <div className="grid th">
        {heading(view === 'sets' ? 'Set' : 'Entry', 'path')}
        {heading('Kind', 'kind')}
        {heading('Size', 'size', 'n')}
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
        aria-activedescendant={walk.cursor >= 0 ? `row-${walk.cursor}` : undefined}
        onKeyDown={(e) => walk.press(e) && e.preventDefault()}
      >
        <div style={{ height: lines.rows.getTotalSize(), position: 'relative' }}>
          {lines.seen.map((r) => {
            const l = lines.at(r.index)
            const on = l && choice.has(l)
            return (
              // Keys are the list's: it has the focus, and says which row is active.
              // eslint-disable-next-line jsx-a11y/click-events-have-key-events
              <div
                key={r.key}
                id={`row-${r.index}`}
                tabIndex={-1}
                className={`grid line ${on ? 'on' : ''} ${r.index === walk.cursor ? 'here' : ''}`}
                role="option"
                aria-selected={!!on}
                data-row={keyOf(l)}
                data-entry={l?.is === 'entry' ? l.entry.path : undefined}
                data-folder={l?.is === 'folder' ? l.folder : undefined}
                data-set={l?.is === 'set' ? l.set.key : undefined}
                style={{
                  position: 'absolute',
                  top: 0,
                  left: 0,
                  right: 0,
                  height: LINE,
                  transform: `translateY(${r.start}px)`,
                }}
                onMouseDown={(e) => {
                  // The list keeps the focus: a row leaves the page when it is scrolled away.
                  e.preventDefault()
                  focus()
                }}
                onClick={(e) => l && walk.click(e, r.index, l)}
              >
                <Cells l={l} />
              </div>
            )
          })}
        </div>
        {first.data && total === 0 && <None all={first.data.all} view={view} sources={sources} />}
      </Scroll>
      <ExtractBar
        project={project}
        chosen={choice.chosen}
        filter={listing.filter}
        fits={flat ? total : undefined}
      />
    </Pane>
  )
}

/** A column's head, which sorts by it: up, down, and not at all. */
function Heading({
  name,
  of,
  sort,
  fixed,
  className,
  put,
}: {
  name: string
  of: string
  sort: string
  fixed: boolean
  className: string
  put: Put
}) {
  if (fixed) return <span className={className}>{name}</span>
  return (
    <span className={className}>
      <button
        onClick={() => put({ sort: sort === of ? `-${of}` : sort === `-${of}` ? '' : of })}
        aria-label={`Sort by ${name}`}
      >
        {name}
        {sort === of ? ' ↑' : sort === `-${of}` ? ' ↓' : ''}
      </button>
    </span>
  )
}

/** What to do where nothing is listed. */
function None({ all, view, sources }: { all: number; view: string; sources?: S['Source'][] }) {
  return (
    <Empty>
      <b>{all === 0 ? 'No entries yet' : 'Nothing fits'}</b>
      {all === 0
        ? sources?.some((s) => s.state === 'indexing')
          ? 'The sources are being indexed.'
          : 'Add a source on the left; its entries appear here.'
        : view === 'sets'
          ? 'A set is two or more entries whose names are the same but for what the name rules take off. Keep a rule on the left, or clear the filters.'
          : 'Search by part of a path, or clear the filters.'}
    </Empty>
  )
}
