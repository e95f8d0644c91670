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
} from '../../api/entries'
import { useAct } from '../../api/http'
import { Fault } from '../../parts/bits'
import { count } from '../../parts/format'
import { useProjectId } from '../../parts/project'
import { Body } from '../../parts/Body'
import { Form, Label } from '../../parts/Form'
import { Head } from '../../parts/Head'
import { Item } from '../../parts/Item'
import { Row } from '../../parts/Row'
import { Scroll } from '../../parts/Scroll'
import { Text } from '../../parts/Text'
import { TextButton } from '../../parts/TextButton'
import { TagButton } from '../../parts/TagButton'

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
  const marks = useBookmarks(project, entry)
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
    <Scroll>
      <Fault error={fault ?? marks.error} />
      <Form
        as="form"

        onSubmit={(e) => {
          e.preventDefault()
          add()
        }}
      >
        <Row>
          <OutlinedInput
            fullWidth
            value={note}
            onChange={(e) => setNote(e.target.value)}
            placeholder={`Note on ${at0(at)}${length > 1 ? `, ${count(length)} bytes` : ''}`}
            inputProps={{ 'aria-label': 'Note', maxLength: 1000 }}
          />
          <Button type="submit">Bookmark</Button>
        </Row>
      </Form>
      {marks.data?.map((m) => (
        <Item between key={m.id} data-bookmark={m.at}>
          <span>
            <TextButton className="mono" onClick={() => onGo(m.at, m.size)}>
              {at0(m.at)}
            </TextButton>{' '}
            {m.note || <Text tone="soft">no note</Text>}
            {m.size > 1 && (
              <Text tone="soft" small>
                {' '}
                · {count(m.size)} bytes
              </Text>
            )}
          </span>
          <TextButton onClick={() => act(() => removeBookmark(entry, m.id))}>Remove</TextButton>
        </Item>
      ))}
      <Head plain ruled>
        <h2>Repeats</h2>
      </Head>
      <Body>
        <Button disabled={length < 2} onClick={() => void find()}>
          Where else do the {length > 1 ? `${count(length)} ` : ''}chosen bytes stand?
        </Button>
        {length < 2 && (
          <Text as="p" tone="soft" small>
            Choose two bytes or more.
          </Text>
        )}
      </Body>
      {repeats && (
        <>
          <Item className="small" data-repeats={repeats.places.length}>
            {repeats.evidence}.{repeats.step > 0 && <> A record may have {count(repeats.step)} bytes.</>}
          </Item>
          <Body className="row wrap">
            {repeats.places.slice(0, 60).map((p) => (
              <TagButton
                key={p}
                tone={p === repeats.at ? 'good' : 'plain'}
                onClick={() => onGo(p, repeats.n)}
              >
                {at0(p)}
              </TagButton>
            ))}
            {repeats.places.length > 60 && (
              <Text tone="soft" small>
                and {count(repeats.places.length - 60)} more
              </Text>
            )}
          </Body>
        </>
      )}
      <Compare entry={entry} path={path} onGo={onGo} />
    </Scroll>
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
      <Head plain ruled>
        <h2>Compare</h2>
      </Head>
      <Form>
        <Label>
          Entries like
          <OutlinedInput
            fullWidth
            value={text}
            placeholder={like || 'part of a name'}
            onChange={(e) => setText(e.target.value)}
            inputProps={{ 'aria-label': 'Entries like' }}
          />
        </Label>
        <Label>
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
        </Label>
      </Form>
      <Fault error={diff.error ?? list.error} />
      {d && (
        <Item data-differing={d.differing}>
          {d.same
            ? 'Every byte is the same.'
            : `${count(d.differing)} bytes differ${d.sizes[0] !== d.sizes[1] ? `; they have ${count(d.sizes[0])} and ${count(d.sizes[1])} bytes` : ''}.`}
        </Item>
      )}
      {d?.ranges.slice(0, 300).map((r) => (
        <Item between key={r.at}>
          <TextButton className="mono" onClick={() => onGo(r.at, r.size)}>
            {at0(r.at)}
          </TextButton>
          <span>{r.field ? <b>{r.field}</b> : <Text tone="soft">no field is known there</Text>}</span>
          <Text tone="soft" small>
            {count(r.size)} bytes
          </Text>
        </Item>
      ))}
      {d && d.ranges.length > 300 && (
        <Item className="soft small">and {count(d.ranges.length - 300)} more places</Item>
      )}
    </>
  )
}
