// The gallery: every find with its picture, filtered and sorted, however many
// there are.
import { Button, MenuItem, OutlinedInput, Select } from '@mui/material'
import { useVirtualizer } from '@tanstack/react-virtual'
import { useEffect, useMemo, useRef, useState } from 'react'
import { Link, useNavigate } from 'react-router'
import { findAll, useGallery } from '../api/finds'
import { useAct, type S } from '../api/http'
import { thumb } from '../api/scenes'
import { Fault } from '../parts/bits'
import { lasting, useAddress } from '../parts/address'
import { count, metres, plural } from '../parts/format'
import { readNumber } from '../parts/number'
import { TakenOut } from '../parts/TakenOut'

const sorts: [string, string, (a: S['Brief'], b: S['Brief']) => number][] = [
  ['', 'in their order', (a, b) => a.id - b.id],
  ['name', 'by name', (a, b) => a.name.localeCompare(b.name)],
  ['triangles', 'most triangles', (a, b) => b.triangles - a.triangles],
  ['source', 'by source', (a, b) => a.source.localeCompare(b.source) || a.path.localeCompare(b.path)],
  ['height', 'tallest', (a, b) => (b.height ?? -1) - (a.height ?? -1)],
  ['short', 'shortest', (a, b) => (a.height ?? Infinity) - (b.height ?? Infinity)],
  ['pictures', 'most pictures', (a, b) => b.pictures - a.pictures],
  ['motions', 'most motions', (a, b) => b.motions - a.motions],
  ['bones', 'most bones', (a, b) => b.bones - a.bones],
  ['missing', 'most missing', (a, b) => b.missing - a.missing],
]
const states: [string, string, (x: S['Brief']) => boolean][] = [
  ['', 'all', () => true],
  ['incomplete', 'incomplete', (x) => x.missing > 0],
  ['complete', 'complete', (x) => x.state === 'ready' && x.missing === 0],
  ['failed', 'cannot be decoded', (x) => x.state === 'failed'],
  ['stopped', 'not decoded', (x) => x.state === 'stopped'],
  ['rigged', 'with bones', (x) => x.bones > 0],
  ['moving', 'with motions', (x) => x.motions > 0],
]

/** Figures that may be bounded. */
const figures: [string, string, (x: S['Brief']) => number | undefined][] = [
  ['', 'any figure', () => 0],
  ['triangles', 'triangles', (x) => x.triangles],
  ['height', 'height in m', (x) => x.height],
  ['bones', 'bones', (x) => x.bones],
  ['pictures', 'pictures', (x) => x.pictures],
  ['missing', 'missing', (x) => x.missing],
  ['motions', 'motions', (x) => x.motions],
]

const bad = (bound: string) => bound !== '' && readNumber(bound) === undefined

export function Gallery({ project, chosen }: { project: number; chosen: number }) {
  const { data, error, isFetching } = useGallery(project)
  const go = useNavigate()
  const [params, put] = useAddress()
  const box = useRef<HTMLDivElement>(null)
  const [words, setWords] = useState(params.get('q') ?? '') // what is typed; the address follows
  const text = words.toLowerCase(),
    by = params.get('by') ?? '',
    only = params.get('only') ?? '',
    of = params.get('of') ?? '',
    from = params.get('from') ?? '',
    to = params.get('to') ?? ''
  useEffect(() => {
    if (words === (params.get('q') ?? '')) return
    const t = setTimeout(() => put({ q: words }), 150)
    return () => clearTimeout(t)
  }, [words]) // eslint-disable-line
  const list = useMemo(() => {
    const keep = states.find(([k]) => k === only)?.[2] ?? (() => true),
      figure = figures.find(([k]) => k === of)?.[2],
      least = readNumber(from),
      most = readNumber(to)
    const within = (x: S['Brief']) => {
      if (!of || !figure) return true
      const v = figure(x)
      return v !== undefined && (least === undefined || v >= least) && (most === undefined || v <= most)
    }
    return (data ?? [])
      .filter(
        (x) =>
          keep(x) && within(x) && (!text || `${x.name} ${x.path} ${x.source}`.toLowerCase().includes(text)),
      )
      .sort(sorts.find(([k]) => k === by)?.[2])
  }, [data, text, by, only, of, from, to])
  const rows = useVirtualizer({
    count: list.length,
    getScrollElement: () => box.current,
    estimateSize: () => 90,
    overscan: 6,
  })
  useEffect(() => {
    if (list.length > 0 && !list.some((x) => x.id === chosen) && !isFetching)
      go(`/p/${project}/finds/${list[0].id}${chosen ? lasting() : window.location.search}`, { replace: true })
  }, [list, chosen, isFetching, go, project])
  const at = list.findIndex((x) => x.id === chosen)
  useEffect(() => {
    if (at >= 0) rows.scrollToIndex(at, { align: 'auto' })
  }, [at]) // eslint-disable-line
  const show = (i: number) => {
    const x = list[Math.max(0, Math.min(i, list.length - 1))]
    if (x && x.id !== chosen) go(`/p/${project}/finds/${x.id}${lasting()}`, { replace: true })
  }
  const { act, fault } = useAct(project)
  const all = () => act(() => findAll(project, {}))
  return (
    <div className="pane column">
      <div className="head">
        <h2>Finds</h2>
        <span className="soft small" data-finds={data?.length}>
          {data &&
            (list.length === data.length
              ? plural(data.length, 'asset')
              : `${count(list.length)} of ${count(data.length)}`)}
        </span>
      </div>
      {(data?.length ?? 0) > 1 && (
        <div className="form narrow">
          <OutlinedInput
            fullWidth
            value={words}
            onChange={(e) => setWords(e.target.value)}
            placeholder="Part of a name"
            inputProps={{ 'aria-label': 'Filter finds' }}
          />
          <div className="pair">
            <Select
              displayEmpty
              value={only}
              inputProps={{ 'aria-label': 'Show' }}
              onChange={(e) => put({ only: e.target.value })}
            >
              {states.map(([k, label]) => (
                <MenuItem key={k} value={k}>
                  {label}
                </MenuItem>
              ))}
            </Select>
            <Select
              displayEmpty
              value={by}
              inputProps={{ 'aria-label': 'Sort finds' }}
              onChange={(e) => put({ by: e.target.value })}
            >
              {sorts.map(([k, label]) => (
                <MenuItem key={k} value={k}>
                  {label}
                </MenuItem>
              ))}
            </Select>
          </div>
          <div className="bounds">
            <Select
              displayEmpty
              value={of}
              inputProps={{ 'aria-label': 'Bounded figure' }}
              onChange={(e) => put({ of: e.target.value, from: '', to: '' })}
            >
              {figures.map(([k, label]) => (
                <MenuItem key={k} value={k}>
                  {label}
                </MenuItem>
              ))}
            </Select>
            {of && (
              <>
                <OutlinedInput
                  value={from}
                  placeholder="from"
                  error={bad(from)}
                  inputProps={{ 'aria-label': 'At least', inputMode: 'decimal' }}
                  onChange={(e) => put({ from: e.target.value })}
                />
                <OutlinedInput
                  value={to}
                  placeholder="to"
                  error={bad(to)}
                  inputProps={{ 'aria-label': 'At most', inputMode: 'decimal' }}
                  onChange={(e) => put({ to: e.target.value })}
                />
              </>
            )}
          </div>
          {of && (bad(from) || bad(to)) && (
            <div className="bad small">{bad(from) ? from : to} is no number, so it bounds nothing.</div>
          )}
        </div>
      )}
      <Fault error={error ?? fault} />
      <div
        className="scroll"
        ref={box}
        tabIndex={0}
        role="listbox"
        aria-label="Finds"
        onKeyDown={(e) => {
          const by = { ArrowDown: 1, ArrowUp: -1, PageDown: 6, PageUp: -6 }[e.key]
          if (by) {
            e.preventDefault()
            show(at + by)
          }
        }}
      >
        <div style={{ height: rows.getTotalSize(), position: 'relative' }}>
          {rows.getVirtualItems().map((r) => {
            const x = list[r.index]
            return (
              <button
                key={x.id}
                className={`card fixed ${x.id === chosen ? 'on' : ''}`}
                role="option"
                aria-selected={x.id === chosen}
                tabIndex={-1}
                style={{ transform: `translateY(${r.start}px)` }}
                onClick={() => show(r.index)}
                data-find={x.name}
                data-state={x.state}
              >
                {x.scene ? (
                  <img className="thumb" src={thumb(x.scene)} alt="" loading="lazy" />
                ) : (
                  <span className="thumb" />
                )}
                <span className="grow">
                  <b className="clip">{x.name}</b>
                  <small className="clip" title={x.path}>
                    {x.source}
                    {x.bones > 0 && ` · ${plural(x.bones, 'bone')}`}
                  </small>
                  {x.state === 'ready' && (
                    <small className="clip">
                      {count(x.triangles)} triangles{x.height != null && ` · ${metres(x.height)}`}
                    </small>
                  )}
                  {x.state === 'decoding' ? (
                    <small>being decoded</small>
                  ) : x.state === 'failed' ? (
                    <small className="bad clip" title={x.error}>
                      cannot be decoded
                    </small>
                  ) : x.state === 'stopped' ? (
                    <small className="warn clip" title={x.error}>
                      not decoded
                    </small>
                  ) : x.missing > 0 ? (
                    <small className="warn">{plural(x.missing, 'picture')} missing</small>
                  ) : (
                    <small className="ok">complete</small>
                  )}
                </span>
              </button>
            )
          })}
        </div>
        {data?.length === 0 && (
          <div className="empty">
            <b>Nothing found yet</b>Choose a model in <Link to={`/p/${project}/sources`}>Sources</Link> and
            make it a find.
          </div>
        )}
        {data && data.length > 0 && list.length === 0 && (
          <div className="empty">
            <b>No find fits</b>Of {plural(data.length, 'find')} none has these words, this state and these
            figures.{' '}
            <button
              className="link"
              onClick={() => {
                setWords('')
                put({ q: '', only: '', of: '', from: '', to: '' })
              }}
            >
              Show all
            </button>
          </div>
        )}
      </div>
      <TakenOut project={project} kind="find" />
      <div className="body row">
        <Button onClick={() => all()}>Decode every model</Button>
      </div>
    </div>
  )
}
