// Bookmarks, repeats of what is chosen, and how another entry differs.
import { Button, MenuItem, OutlinedInput, Select } from '@mui/material'

import { useState } from 'react'
import {
  addBookmark,
  findRepeats,
  removeBookmark,
  useBookmarks,
  useEntryComparison,
  useNamedEntries,
} from '../api/entries'
import { useAct } from '../api/http'
import { Fault } from '../parts/bits'
import { count } from '../parts/format'
import { useProjectId } from '../Shell'

const at0 = (n: number) => `0x${n.toString(16)}`

export function NotesPane({
  entry,
  path,
  at,
  length,
  onGo,
}: {
  entry: number
  path?: string
  at: number
  length: number
  onGo: (at: number, n: number) => void
}) {
  const [note, setNote] = useState('')
  const project = useProjectId()
  const [repeats, setRepeats] = useState<{
    places: number[]
    more: boolean
    step: number
    evidence: string
    at: number
    n: number
  }>()
  const marks = useBookmarks(entry)
  const { act, fault } = useAct(project)
  const add = () =>
    act(
      () => addBookmark(entry, at, length, note),
      () => setNote(''),
    )
  const find = () =>
    act(
      () => findRepeats(entry, at, Math.min(length, 65536)),
      (r) => setRepeats({ ...r, at, n: length }),
    )
  return (
    <div className="scroll">
      <Fault error={fault ?? marks.error} />
      <form
        className="form"
        onSubmit={(e) => {
          e.preventDefault()
          add()
        }}
      >
        <div className="row">
          <OutlinedInput
            fullWidth
            value={note}
            onChange={(e) => setNote(e.target.value)}
            placeholder={`Note on ${at0(at)}${length > 1 ? `, ${count(length)} bytes` : ''}`}
            inputProps={{ 'aria-label': 'Note', maxLength: 1000 }}
          />
          <Button type="submit">Bookmark</Button>
        </div>
      </form>
      {marks.data?.map((m) => (
        <div className="item row between" key={m.id} data-bookmark={m.at}>
          <span>
            <button className="link mono" onClick={() => onGo(m.at, m.size)}>
              {at0(m.at)}
            </button>{' '}
            {m.note || <span className="soft">no note</span>}
            {m.size > 1 && <span className="soft small"> · {count(m.size)} bytes</span>}
          </span>
          <button className="link" onClick={() => act(() => removeBookmark(entry, m.id))}>
            Remove
          </button>
        </div>
      ))}
      <div className="head bare top">
        <h2>Repeats</h2>
      </div>
      <div className="body">
        <Button disabled={length < 2} onClick={() => void find()}>
          Where else do the {length > 1 ? `${count(length)} ` : ''}chosen bytes stand?
        </Button>
        {length < 2 && <p className="soft small">Choose two bytes or more.</p>}
      </div>
      {repeats && (
        <>
          <div className="item small" data-repeats={repeats.places.length}>
            {repeats.evidence}.{repeats.step > 0 && <> A record may have {count(repeats.step)} bytes.</>}
          </div>
          <div className="body row wrap">
            {repeats.places.slice(0, 60).map((p) => (
              <button
                key={p}
                className={`tag ${p === repeats.at ? 'g' : ''}`}
                onClick={() => onGo(p, repeats.n)}
              >
                {at0(p)}
              </button>
            ))}
            {repeats.places.length > 60 && (
              <span className="soft small">and {count(repeats.places.length - 60)} more</span>
            )}
          </div>
        </>
      )}
      <Compare entry={entry} path={path} onGo={onGo} />
    </div>
  )
}

function Compare({
  entry,
  path,
  onGo,
}: {
  entry: number
  path?: string
  onGo: (at: number, n: number) => void
}) {
  const project = useProjectId()
  const [other, setOther] = useState(0)
  const ending = path?.includes('.') ? path.slice(path.lastIndexOf('.')) : ''
  const [text, setText] = useState('')
  const like = text || (ending ? `*${ending}` : '')
  const list = useNamedEntries(project, like, 50)
  const diff = useEntryComparison(entry, other)
  const rows = (list.data?.entries ?? []).filter((e) => e.id !== entry)
  const d = diff.data
  return (
    <>
      <div className="head bare top">
        <h2>Compare</h2>
      </div>
      <div className="form">
        <label className="f">
          Entries like
          <OutlinedInput
            fullWidth
            value={text}
            placeholder={like || 'part of a name'}
            onChange={(e) => setText(e.target.value)}
            inputProps={{ 'aria-label': 'Entries like' }}
          />
        </label>
        <label className="f">
          Compare with
          <Select
            fullWidth
            displayEmpty
            value={rows.some((e) => e.id === other) ? other : 0}
            onChange={(e) => setOther(Number(e.target.value))}
            inputProps={{ 'aria-label': 'Compare with' }}
          >
            <MenuItem value={0}>{rows.length ? 'choose an entry' : 'none is like it'}</MenuItem>
            {rows.map((e) => (
              <MenuItem key={e.id} value={e.id}>
                {e.path}
              </MenuItem>
            ))}
          </Select>
        </label>
      </div>
      <Fault error={diff.error ?? list.error} />
      {d && (
        <div className="item" data-differing={d.differing}>
          {d.same
            ? 'Every byte is the same.'
            : `${count(d.differing)} bytes differ${d.sizes[0] !== d.sizes[1] ? `; they have ${count(d.sizes[0])} and ${count(d.sizes[1])} bytes` : ''}.`}
        </div>
      )}
      {d?.ranges.slice(0, 300).map((r) => (
        <div className="item row between" key={r.at}>
          <button className="link mono" onClick={() => onGo(r.at, r.size)}>
            {at0(r.at)}
          </button>
          <span>{r.field ? <b>{r.field}</b> : <span className="soft">no field is known there</span>}</span>
          <span className="soft small">{count(r.size)} bytes</span>
        </div>
      ))}
      {d && d.ranges.length > 300 && (
        <div className="item soft small">and {count(d.ranges.length - 300)} more places</div>
      )}
    </>
  )
}
