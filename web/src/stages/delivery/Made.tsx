// What is done with a delivery that is made: sent to a receiver, or put into a
// folder.
import { Button, MenuItem, OutlinedInput, Select, styled } from '@mui/material'
import { useState } from 'react'
import { placeDelivery, sendDelivery, verifyDelivery } from '../../api/chains'
import { useAct, type S } from '../../api/http'
import { Fault } from '../../parts/bits'
import { plural } from '../../parts/format'
import { Head } from '../../parts/Head'
import { Item } from '../../parts/Item'
import { Row } from '../../parts/Row'
import { Text } from '../../parts/Text'

const Body = styled('div')({ padding: '8px 18px 12px', fontSize: 13 })

export function Made({
  project,
  delivery,
  receivers,
}: {
  project: number
  delivery: S['Delivery']
  receivers?: S['Receiver'][]
}) {
  const { act, fault, busy } = useAct(project)
  const there = (receivers ?? []).filter((r) => !r.note)
  const [to, setTo] = useState('')
  const [folder, setFolder] = useState('')
  const [placed, setPlaced] = useState<S['Placed'][]>()
  const [verified, setVerified] = useState<S['Verified']>()
  const receiver = to || there[0]?.id || ''
  const place = (search: boolean) => act(() => placeDelivery(delivery.id, folder.trim(), search), setPlaced)
  return (
    <>
      <Head
        title={`Hand over ${delivery.name}`}
        ruled
        end={
          <Button
            size="small"
            disabled={busy}
            title="Holds every file against its digest, and makes the delivery again from the sources"
            onClick={() => act(() => verifyDelivery(delivery.id), setVerified)}
          >
            Verify
          </Button>
        }
      />
      <Fault error={fault} />
      <Body>
        <Row wrap>
          {there.length > 0 ? (
            <>
              <Select
                value={receiver}
                inputProps={{ 'aria-label': 'Receiver' }}
                onChange={(e) => setTo(e.target.value)}
              >
                {there.map((r) => (
                  <MenuItem key={r.id} value={r.id}>
                    {r.name}
                  </MenuItem>
                ))}
              </Select>
              <Button disabled={busy} onClick={() => act(() => sendDelivery(delivery.id, receiver))}>
                Send
              </Button>
            </>
          ) : (
            <Text tone="soft">No receiver is reached; start Excavate with --receiver to name one.</Text>
          )}
          <OutlinedInput
            value={folder}
            onChange={(e) => setFolder(e.target.value)}
            placeholder="or a folder, as a whole path"
            inputProps={{ 'aria-label': 'Folder to put it into', spellCheck: false, maxLength: 4096 }}
            style={{ minWidth: 260, flex: 1 }}
          />
          <Button disabled={busy || !folder.trim()} onClick={() => place(false)}>
            Put there
          </Button>
        </Row>
      </Body>
      {verified && <Verified {...verified} />}
      {placed?.map((p) => (
        <Placed key={p.folder} {...p} onSearch={() => place(true)} />
      ))}
    </>
  )
}

/** What was put into an asset's folder, and what was left as it is. */
function Placed({
  folder,
  made,
  replaced,
  same,
  kept,
  backup,
  searchFile,
  searchLine,
  onSearch,
}: S['Placed'] & { onSearch: () => void }) {
  return (
    <Item data-placed={made.length}>
      In {folder}: {plural(made.length, 'file')} new, {replaced.length} replaced, {same.length} the same.
      {kept.length > 0 && (
        <small>
          Kept as they are, because they were changed since or are somebody else&apos;s: {kept.join(', ')}
        </small>
      )}
      {backup && <small>The search path file as it was: {backup}</small>}
      {searchLine && (
        <small>
          The target finds it once {searchFile} has the line <code>{searchLine}</code>.{' '}
          <Button size="small" onClick={() => void navigator.clipboard.writeText(searchLine)}>
            Copy it
          </Button>{' '}
          <Button size="small" onClick={onSearch}>
            Add it, with a backup
          </Button>
        </small>
      )}
    </Item>
  )
}

/** What is as it was when the delivery was made, and what is not. */
function Verified({ files, faults, same, differ, cannot, notes }: S['Verified']) {
  return (
    <Item data-verified={faults.length ? 'faults' : same ? 'same' : cannot ? 'cannot' : 'differs'}>
      {faults.length === 0
        ? `${plural(files, 'file')}, each as the manifest says. `
        : `${plural(faults.length, 'file')} not as the manifest says. `}
      {same && 'Made again from the sources: every byte is the same.'}
      {cannot && `It cannot be made again: ${cannot}.`}
      {differ.length > 0 &&
        `Made again from the sources, ${plural(differ.length, 'file')} came out otherwise.`}
      {[...faults, ...differ].map((f, i) => (
        <small key={i}>
          {f.path}: {f.says}
        </small>
      ))}
      {notes.map((n) => (
        <small key={n}>{n}</small>
      ))}
    </Item>
  )
}
