import { Button, Dialog, DialogContent, DialogTitle, OutlinedInput } from '@mui/material'
import { keepPreviousData, useQueries, useQuery, useQueryClient } from '@tanstack/react-query'
import { useVirtualizer } from '@tanstack/react-virtual'
import { useDeferredValue, useEffect, useRef, useState } from 'react'
import { useNavigate, useSearchParams } from 'react-router'
import { api, ok, refresh, useLibrary, usePreview, useSources, viewUrl, type S } from '../api/client'
import { Fault, Figures, Pictures } from '../parts/bits'
import { bytes, count, plural, split } from '../parts/format'
import { View3D } from '../parts/View3D'
import { useProjectId } from '../Shell'

const PAGE = 200
const kindWords: Record<S['Kind'], [string, string]> = { model: ['model', 'models'], picture: ['picture', 'pictures'], archive: ['archive', 'archives'], sound: ['sound', 'sounds'], text: ['text', 'texts'], data: ['other', 'other'] }

export function Sources() {
  const project = useProjectId()
  const { data: sources, error } = useSources(project)
  const [params, setParams] = useSearchParams()
  const put = (k: string, v: string) => setParams(() => { const p = new URLSearchParams(window.location.search); if (v) p.set(k, v); else p.delete(k); return p }, { replace: true }) // from the address itself: edits may come from a timer
  const only = Number(params.get('source') ?? 0)
  const entry = Number(params.get('entry') ?? 0)
  return (
    <div className="cols cols-sources">
      <Order project={project} sources={sources} error={error} only={only} onOnly={(id) => put('source', id === only ? '' : String(id))} />
      <Entries project={project} sources={sources} only={only} q={params.get('q') ?? ''} kind={(params.get('kind') ?? '') as S['Kind'] | ''} sort={params.get('sort') ?? ''} entry={entry} put={put} />
      <Preview project={project} entry={entry} />
    </div>
  )
}

function Order({ project, sources, error, only, onOnly }: { project: number; sources?: S['Source'][]; error: unknown; only: number; onOnly: (id: number) => void }) {
  const q = useQueryClient()
  const [adding, setAdding] = useState(false)
  const [over, setOver] = useState(false)
  const [fault, setFault] = useState<unknown>()
  const [upload, setUpload] = useState('')
  const run = async (f: () => Promise<unknown>) => { setFault(undefined); try { await f() } catch (e) { setFault(e) } finally { void refresh(q, project) } }
  const move = (i: number, by: number) => run(() => {
    const ids = sources!.map((s) => s.id)
    ids.splice(i + by, 0, ...ids.splice(i, 1))
    return ok(api.PUT('/api/projects/{project}/sources/order', { params: { path: { project } }, body: { ids } }))
  })
  const send = (files: FileList) => run(async () => {
    for (const f of Array.from(files)) {
      setUpload(`Taking in ${f.name}, ${bytes(f.size)}…`)
      const r = await fetch(`/api/projects/${project}/uploads?name=${encodeURIComponent(f.name)}`, { method: 'POST', headers: { 'Content-Type': 'application/octet-stream' }, body: f })
      if (!r.ok) { setUpload(''); throw new Error(((await r.json()) as S['Error']).message) }
    }
    setUpload('')
  })
  useEffect(() => { // files may be dropped anywhere on the window
    const hold = (e: DragEvent) => { if (e.dataTransfer?.types.includes('Files')) { e.preventDefault(); setOver(true) } }
    const leave = (e: DragEvent) => { if (!e.relatedTarget) setOver(false) }
    const drop = (e: DragEvent) => { e.preventDefault(); setOver(false); if (e.dataTransfer?.files.length) void send(e.dataTransfer.files) }
    window.addEventListener('dragover', hold); window.addEventListener('dragleave', leave); window.addEventListener('drop', drop)
    return () => { window.removeEventListener('dragover', hold); window.removeEventListener('dragleave', leave); window.removeEventListener('drop', drop) }
  })
  return (
    <div className="pane">
      <div className="head bare"><h2>Search order</h2><span className="soft small">first wins</span></div>
      <Fault error={error ?? fault} />
      {sources?.map((s, i) => (
        <div key={s.id} role="button" tabIndex={0} className={`slab ${s.id === only ? 'on' : ''}`} aria-pressed={s.id === only} data-source={s.label} data-state={s.state}
          onClick={() => onOnly(s.id)} onKeyDown={(e) => { if (e.target === e.currentTarget && (e.key === 'Enter' || e.key === ' ')) { e.preventDefault(); onOnly(s.id) } }} title={s.path}>
          <span className="no">{i + 1}</span>
          <b className="clip">{s.label}{s.format === 'folder' && '/'}</b>
          <small>{s.state === 'indexing' ? 'being indexed' : s.state === 'failed' ? <span className="bad">cannot be read</span> : <>{s.isLayout ? `layout “${s.format}”` : s.format} · {count(s.entries)} {s.entries === 1 ? 'entry' : 'entries'}</>}</small>
          {s.error && <small className="bad">{s.error}</small>}
          {s.problems.length > 0 && <small className="warn" title={s.problems.join('\n')}>{plural(s.problems.length, 'problem')}: {s.problems[0]}</small>}
          {s.terms ? <small><span className="tag w" title={s.terms}>terms in licence.txt</span></small> : s.state === 'ready' && <small><span className="tag">terms not stated</span></small>}
          <span className="acts" onClick={(e) => e.stopPropagation()}>
            <button className="mini" disabled={i === 0} aria-label={`Move ${s.label} up`} onClick={() => void move(i, -1)}>↑</button>
            <button className="mini" disabled={i === sources.length - 1} aria-label={`Move ${s.label} down`} onClick={() => void move(i, 1)}>↓</button>
            <button className="mini" aria-label={`Take out ${s.label}`} onClick={() => void run(() => ok(api.DELETE('/api/sources/{source}', { params: { path: { source: s.id } } })))}>Take out</button>
          </span>
        </div>
      ))}
      {sources?.length === 0 && <div className="empty"><b>No sources yet</b>Add a game's archive, a ZIP or a folder. It is read where it lies and never changed.</div>}
      <div className={`drop ${over ? 'over' : ''}`}>
        {upload || 'Drop archives or files anywhere'}<br />
        <Button variant="text" onClick={() => setAdding(true)}>Add by path</Button>
      </div>
      {adding && <AddSource project={project} mounted={sources ?? []} onClose={() => setAdding(false)} />}
    </div>
  )
}

function AddSource({ project, mounted, onClose }: { project: number; mounted: S['Source'][]; onClose: () => void }) {
  const q = useQueryClient()
  const { data, error } = useLibrary(true)
  const [path, setPath] = useState('')
  const [fault, setFault] = useState<unknown>()
  const add = async (p: string) => {
    try { await ok(api.POST('/api/projects/{project}/sources', { params: { path: { project } }, body: { path: p } })); onClose() } catch (e) { setFault(e) }
    void refresh(q, project)
  }
  return (
    <Dialog open onClose={onClose} maxWidth="sm" fullWidth>
      <DialogTitle>Add a source by path</DialogTitle>
      <DialogContent>
        <form className="row" onSubmit={(e) => { e.preventDefault(); void add(path) }}>
          <OutlinedInput fullWidth autoFocus value={path} onChange={(e) => setPath(e.target.value)} placeholder="/path/to/archive or folder" inputProps={{ 'aria-label': 'Path', className: 'mono', spellCheck: false }} />
          <Button type="submit" variant="contained" disabled={!path.trim()}>Add</Button>
        </form>
        <Fault error={fault ?? error} />
        {data?.length === 0 && <p className="soft">The server was given no library folder. Start it with --library to allow one, or drop files on the window.</p>}
        {data?.map((f) => (
          <div key={f.path}>
            <p className="soft small">In {f.path}</p>
            <table><tbody>
              {f.items.map((it) => {
                const there = mounted.some((m) => m.path === it.path)
                return (
                  <tr key={it.path} data-library={it.name}>
                    <td>{it.name}{it.folder && '/'}</td><td className="n soft">{it.folder ? 'folder' : bytes(it.size)}</td>
                    <td className="n">{there ? <span className="tag g">mounted</span> : <Button onClick={() => void add(it.path)} aria-label={`Add ${it.name}`}>Add</Button>}</td>
                  </tr>
                )
              })}
            </tbody></table>
          </div>
        ))}
      </DialogContent>
    </Dialog>
  )
}

function Entries({ project, sources, only, q, kind, sort, entry, put }: { project: number; sources?: S['Source'][]; only: number; q: string; kind: S['Kind'] | ''; sort: string; entry: number; put: (k: string, v: string) => void }) {
  const [text, setText] = useState(q)
  const search = useDeferredValue(text)
  const timer = useRef(0)
  const scroll = useRef<HTMLDivElement>(null)
  const query = (page: number) => ({
    queryKey: ['p', project, 'entries', search, kind, only, sort, page] as const,
    queryFn: () => ok(api.GET('/api/projects/{project}/entries', { params: { path: { project }, query: { q: search || undefined, kind: kind || undefined, source: only || undefined, sort: (sort || undefined) as 'path' | undefined, offset: page * PAGE, limit: PAGE } } })),
  })
  const first = useQuery({ ...query(0), placeholderData: keepPreviousData })
  const total = first.data?.total ?? 0
  const rows = useVirtualizer({ count: total, getScrollElement: () => scroll.current, estimateSize: () => 29, overscan: 12 })
  const seen = rows.getVirtualItems()
  const pages = [...new Set(seen.map((r) => Math.floor(r.index / PAGE)))].filter((p) => p > 0)
  const more = useQueries({ queries: pages.map(query) })
  const at = (i: number) => { const p = Math.floor(i / PAGE); return (p === 0 ? first.data : more[pages.indexOf(p)]?.data)?.entries[i % PAGE] }
  useEffect(() => { scroll.current?.scrollTo(0, 0) }, [search, kind, only, sort])
  const change = (v: string) => { setText(v); window.clearTimeout(timer.current); timer.current = window.setTimeout(() => put('q', v), 300) }
  const index = (() => { for (let i = 0; i < (first.data?.entries.length ?? 0); i++) if (first.data!.entries[i].id === entry) return i; return seen.find((r) => at(r.index)?.id === entry)?.index ?? -1 })()
  const step = (by: number) => {
    const i = Math.min(Math.max(index + by, 0), total - 1), e = at(i)
    if (e) { put('entry', String(e.id)); rows.scrollToIndex(i) }
  }
  const header = (name: string, key: string, cls = '') => (
    <span className={cls}><button onClick={() => put('sort', sort === key ? `-${key}` : sort === `-${key}` ? '' : key)} aria-label={`Sort by ${name}`}>{name}{sort === key ? ' ↑' : sort === `-${key}` ? ' ↓' : ''}</button></span>
  )
  return (
    <div className="pane flat column">
      <div className="tools">
        <OutlinedInput id="search" className="grow" value={text} onChange={(e) => change(e.target.value)} placeholder="Part of a path, or a pattern such as *_c.*" inputProps={{ 'aria-label': 'Search entries', spellCheck: false }}
          onKeyDown={(e) => { if (e.key === 'ArrowDown') { e.preventDefault(); step(1); scroll.current?.focus() } if (e.key === 'Escape') change('') }} />
        {Object.entries(first.data?.kinds ?? {}).sort((a, b) => b[1] - a[1]).map(([k, n]) => (
          <button key={k} className={`tag ${kind === k ? 'g' : ''}`} aria-pressed={kind === k} onClick={() => put('kind', kind === k ? '' : k)}>{kindWords[k as S['Kind']][1]} {count(n)}</button>
        ))}
        <span className="soft small" data-total={total}>{count(total)} of {count(first.data?.all ?? 0)}{first.data && ` · ${Math.max(1, Math.round(first.data.milliseconds))} ms`}</span>
      </div>
      <Fault error={first.error} />
      <div className="grid th">{header('Entry', 'path')}<span>Kind</span>{header('Size', 'size', 'n')}<span className="n">Packed</span><span>Source</span></div>
      <div className="scroll" ref={scroll} tabIndex={0} role="listbox" aria-label="Entries"
        onKeyDown={(e) => { const by = { ArrowDown: 1, ArrowUp: -1, PageDown: 15, PageUp: -15 }[e.key]; if (by) { e.preventDefault(); step(by) } }}>
        <div style={{ height: rows.getTotalSize(), position: 'relative' }}>
          {seen.map((r) => {
            const e = at(r.index)
            const [dir, name] = split(e?.path ?? '')
            return (
              <div key={r.key} className={`grid line ${e && e.id === entry ? 'on' : ''}`} role="option" aria-selected={e?.id === entry} data-entry={e?.path} style={{ position: 'absolute', top: 0, left: 0, right: 0, height: 29, transform: `translateY(${r.start}px)` }} onClick={() => e && put('entry', String(e.id))}>
                {e ? (<>
                  <span className="row" style={{ minWidth: 0 }}><span className="clip" title={e.path}><span className="soft">{dir}</span>{name}</span>{e.overriddenBy && <span className="tag" title={`${e.overriddenBy} wins for this path`}>overridden by {e.overriddenBy}</span>}{e.error && <span className="tag b" title={e.error}>cannot be read</span>}</span>
                  <span className="clip">{kindWords[e.kind][0]}{e.format && <span className="soft"> · {e.format}</span>}</span>
                  <span className="n">{bytes(e.size)}</span>
                  <span className="n">{e.size > 0 ? `${Math.round((100 * e.packed) / e.size)}%` : '–'}</span>
                  <span className="clip soft">{e.sourceLabel}</span>
                </>) : <span className="soft">…</span>}
              </div>
            )
          })}
        </div>
        {first.data && total === 0 && <div className="empty"><b>{first.data.all === 0 ? 'No entries yet' : 'Nothing fits'}</b>{first.data.all === 0 ? (sources?.some((s) => s.state === 'indexing') ? 'The sources are being indexed.' : 'Add a source on the left; its entries appear here.') : 'Search by part of a path, or clear the filters.'}</div>}
      </div>
    </div>
  )
}

function Preview({ project, entry }: { project: number; entry: number }) {
  const { data: p, error, isLoading } = usePreview(project, entry || undefined)
  const go = useNavigate()
  const [fault, setFault] = useState<unknown>()
  const q = useQueryClient()
  if (!entry) return <div className="pane r"><div className="empty"><b>Preview</b>Choose an entry to see it here. Nothing is extracted.</div></div>
  const find = async () => {
    try {
      const f = await ok(api.POST('/api/projects/{project}/finds', { params: { path: { project } }, body: { entry } }))
      await refresh(q, project)
      go(`/p/${project}/finds/${f.id}`)
    } catch (e) { setFault(e) }
  }
  const m = p?.model
  return (
    <div className="pane r" data-preview={p?.entry.path}>
      {m ? <View3D className="small" tools={false} panes={[{ url: viewUrl(m.scene), title: split(p.entry.path)[1], note: `${count(m.stats.triangles)} triangles · ${count(m.stats.bones)} bones` }]} />
        : p?.picture ? <div className="picture"><img alt={split(p.entry.path)[1]} src={`/api/entries/${entry}/picture`} /></div>
        : <div className="head"><h2 className="clip">{p ? split(p.entry.path)[1] : isLoading ? 'Opening…' : 'Preview'}</h2></div>}
      <Fault error={error ?? fault} />
      {p?.error && <Fault error={p.error} />}
      {m && (<>
        <div className="body row wrap" style={{ paddingTop: 10 }}>
          <Button variant="contained" onClick={() => void find()}>{p.find ? 'Show the find' : 'Make it a find'}</Button>
        </div>
        <div className="head bare"><h2>Needs</h2>{m.stats.missing > 0 ? <span className="tag w">{m.stats.missing} missing</span> : <span className="tag g">all found</span>}</div>
        <Pictures list={m.pictures} />
        <div className="head bare"><h2>Figures</h2></div>
        <Figures stats={m.stats} basis={m.basis} />
      </>)}
      {p?.picture && <div className="facts"><span>Size</span><div>{p.picture.width} × {p.picture.height} texels</div><span>Format</span><div>{p.picture.format}</div></div>}
      {p && <div className="facts"><span>Entry</span><div style={{ overflowWrap: 'anywhere' }}>{p.entry.path}</div><span>Source</span><div>{p.entry.sourceLabel}</div><span>Bytes</span><div>{count(p.entry.size)}, {count(p.entry.packed)} packed</div></div>}
      {p?.text !== undefined && <pre className="code" style={{ borderTop: '1px solid var(--line)' }}>{p.text}</pre>}
      {p?.hex && <><div className="head bare top"><h2>First bytes</h2></div><pre className="code" style={{ whiteSpace: 'pre', fontSize: 11 }}>{p.hex}</pre></>}
    </div>
  )
}
