// Taking entries out: what is chosen, where to, and what became of it.
import {
  Button,
  Checkbox,
  Dialog,
  DialogContent,
  DialogTitle,
  FormControlLabel,
  MenuItem,
  OutlinedInput,
  Select,
  ToggleButton,
  ToggleButtonGroup,
} from '@mui/material'
import { useState } from 'react'
import { extract, resumeExtraction, useExtractions, useSelected } from '../../api/extractions'
import { useAct, type S } from '../../api/http'
import { Fault } from '../../parts/bits'
import { bytes, count, plural, seconds } from '../../parts/format'
import type { Chosen } from './choice'
import { Form, Label } from '../../parts/Form'
import { Item } from '../../parts/Item'
import { Mini } from '../../parts/Mini'
import { Notice } from '../../parts/Notice'
import { Row } from '../../parts/Row'
import { Rows } from '../../parts/Scroll'
import { Text } from '../../parts/Text'
import { TextButton } from '../../parts/TextButton'
import { Tag } from '../../parts/Tag'

export function ExtractBar({
  project,
  chosen,
  filter,
  fits,
}: {
  project: number
  chosen: Chosen
  filter: S['Filter']
  fits?: number
}) {
  const [options, setOptions] = useState<{ selection: Chosen; title: string }>()
  const [list, setList] = useState(false)
  const some = !!chosen.filter || !!chosen.ids?.length || !!chosen.folders?.length || !!chosen.sets?.length
  const { act, fault } = useAct(project)
  const got = useSelected(project, { ...chosen, needs: true }, some)
  const plain = useSelected(project, chosen, some)
  const done = useExtractions(project)
  const n = some ? (plain.data?.entries ?? 0) : 0
  const extra = some && got.data && plain.data ? got.data.entries - plain.data.entries : 0
  const missing = some ? (got.data?.missing ?? []) : []
  const title =
    chosen.sets?.length === 1
      ? chosen.sets[0]
      : chosen.folders?.length === 1
        ? chosen.folders[0].split('/').pop()!
        : 'extracted'
  const start = (selection: Chosen) => act(() => extract(project, { title, selection, form: 'folder' }))
  const last = done.data?.[0]
  return (
    <div className="extract">
      <Fault error={fault} />
      <Row wrap>
        <Button
          variant="contained"
          disabled={n === 0}
          onClick={() => start({ ...chosen, needs: true })}
          title={missing.length ? `Not found: ${missing.join(', ')}` : ''}
        >
          Extract with all {n === 1 ? 'it needs' : 'they need'}
          {extra > 0 && ` (${count(n + extra)})`}
        </Button>
        <Button disabled={n === 0} onClick={() => start(chosen)}>
          Extract {count(n)}
        </Button>
        {fits !== undefined && fits > 0 && (
          <Button onClick={() => setOptions({ selection: { filter, winners: true }, title: 'extracted' })}>
            All {count(fits)}
          </Button>
        )}
        <Button disabled={n === 0} onClick={() => setOptions({ selection: chosen, title })}>
          How…
        </Button>
        <span className="grow" />
        {last && (
          <TextButton onClick={() => setList(true)} data-extractions={done.data!.length}>
            {last.state === 'done'
              ? `${plural(last.summary?.entries ?? 0, 'entry', 'entries')} extracted`
              : last.state === 'failed'
                ? 'An extraction stopped'
                : last.state === 'cancelled'
                  ? 'Stopped'
                  : 'Extracting'}
          </TextButton>
        )}
      </Row>
      <Text as="div" tone="soft" small>
        {n > 0 ? (
          <>
            {plural(n, 'entry', 'entries')}, {bytes(plain.data?.bytes ?? 0)}
            {missing.length > 0 && <Text tone="warn"> · {plural(missing.length, 'name')} not found</Text>} ·
            into a new folder, nothing is overwritten
          </>
        ) : (
          'Choose entries with click, Shift and Ctrl, or with Shift and the arrow keys; Ctrl A takes all that fit.'
        )}
      </Text>
      {last?.state === 'done' && (
        <Text as="div" small data-went={last.to}>
          The last went to <Text mono>{last.to}</Text>
        </Text>
      )}
      {options && <How project={project} {...options} onClose={() => setOptions(undefined)} />}
      {list && <Extractions project={project} onClose={() => setList(false)} />}
    </div>
  )
}

function How({
  project,
  selection,
  title,
  onClose,
}: {
  project: number
  selection: Chosen
  title: string
  onClose: () => void
}) {
  const [name, setName] = useState(title)
  const [form, setForm] = useState<'folder' | 'zip'>('folder')
  const [needs, setNeeds] = useState(false)
  const [winners, setWinners] = useState(selection.winners ?? true)
  const [own, setOwn] = useState(true)
  const [to, setTo] = useState('')
  const [policy, setPolicy] = useState<'refuse' | 'skip' | 'replace' | 'keep-both'>('refuse')
  const [layout, setLayout] = useState<'keep' | 'map' | 'flat'>('keep')
  const [map, setMap] = useState([{ from: '', to: '' }])
  const spec = { ...selection, needs, winners }
  const got = useSelected(project, spec)
  const { act, fault } = useAct(project)
  const start = () =>
    act(
      () =>
        extract(project, {
          title: name,
          selection: spec,
          form,
          to: own ? undefined : to,
          policy: own ? undefined : policy,
          map: layout === 'map' ? map.filter((m) => m.from || m.to) : undefined,
          flat: layout === 'flat' || undefined,
        }),
      onClose,
    )
  return (
    <Dialog open onClose={onClose} maxWidth="sm" fullWidth>
      <DialogTitle>
        Extract {got.data ? `${plural(got.data.entries, 'entry', 'entries')}, ${bytes(got.data.bytes)}` : '…'}
      </DialogTitle>
      <DialogContent>
        <Fault error={fault ?? got.error} />
        <Form flush>
          <Row>
            <ToggleButtonGroup
              exclusive
              size="small"
              value={form}
              aria-label="Form"
              onChange={(_, v: 'folder' | 'zip' | null) => v && setForm(v)}
            >
              <ToggleButton value="folder">To a folder</ToggleButton>
              <ToggleButton value="zip">To a ZIP</ToggleButton>
            </ToggleButtonGroup>
          </Row>
          <FormControlLabel
            control={<Checkbox checked={needs} onChange={(e) => setNeeds(e.target.checked)} />}
            label="With all that they need"
          />
          <FormControlLabel
            control={<Checkbox checked={winners} onChange={(e) => setWinners(e.target.checked)} />}
            label="Where several sources hold a path, only the one that wins"
          />
          {got.data && got.data.missing.length > 0 && (
            <Notice>
              Needed and not found: {got.data.missing.slice(0, 5).join(', ')}
              {got.data.missing.length > 5 && ` and ${count(got.data.missing.length - 5)} more`}
            </Notice>
          )}
          <Label>
            Where to
            <Select
              fullWidth
              value={own ? 'own' : 'other'}
              onChange={(e) => setOwn(e.target.value === 'own')}
              inputProps={{ 'aria-label': 'Where to' }}
            >
              <MenuItem value="own">
                A new {form === 'zip' ? 'file' : 'folder'} of its own; nothing is overwritten
              </MenuItem>
              <MenuItem value="other">A {form === 'zip' ? 'file' : 'folder'} that I name</MenuItem>
            </Select>
          </Label>
          {own ? (
            <Label>
              Name
              <OutlinedInput
                fullWidth
                value={name}
                onChange={(e) => setName(e.target.value)}
                inputProps={{ 'aria-label': 'Name', maxLength: 120 }}
              />
            </Label>
          ) : (
            <>
              <Label>
                Path
                <OutlinedInput
                  fullWidth
                  value={to}
                  onChange={(e) => setTo(e.target.value)}
                  placeholder={form === 'zip' ? '/folder/name.zip' : '/folder'}
                  inputProps={{ 'aria-label': 'Path to extract to', className: 'mono', spellCheck: false }}
                />
              </Label>
              <Label>
                Where a file is there already
                <Select
                  fullWidth
                  value={policy}
                  onChange={(e) => setPolicy(e.target.value)}
                  inputProps={{ 'aria-label': 'Where a file is there already' }}
                >
                  <MenuItem value="refuse">Report it; leave both as they are</MenuItem>
                  <MenuItem value="skip">Skip the entry</MenuItem>
                  <MenuItem value="replace">Replace the file</MenuItem>
                  <MenuItem value="keep-both">Keep both, under another name</MenuItem>
                </Select>
              </Label>
            </>
          )}
          <Label>
            Paths
            <Select
              fullWidth
              value={layout}
              onChange={(e) => setLayout(e.target.value)}
              inputProps={{ 'aria-label': 'Paths' }}
            >
              <MenuItem value="keep">As they are in the source</MenuItem>
              <MenuItem value="map">Moved to a target's folders</MenuItem>
              <MenuItem value="flat">All in one folder</MenuItem>
            </Select>
          </Label>
          {layout === 'map' && (
            <>
              {map.map((m, i) => (
                <Row key={i}>
                  <OutlinedInput
                    className="grow"
                    value={m.from}
                    onChange={(e) =>
                      setMap(map.map((x, k) => (k === i ? { ...x, from: e.target.value } : x)))
                    }
                    placeholder="wash/"
                    inputProps={{ 'aria-label': 'From', className: 'mono' }}
                  />
                  →
                  <OutlinedInput
                    className="grow"
                    value={m.to}
                    onChange={(e) => setMap(map.map((x, k) => (k === i ? { ...x, to: e.target.value } : x)))}
                    placeholder="materials/"
                    inputProps={{ 'aria-label': 'To', className: 'mono' }}
                  />
                  <Mini onClick={() => setMap(map.filter((_, k) => k !== i))}>Remove</Mini>
                </Row>
              ))}
              <TextButton onClick={() => setMap([...map, { from: '', to: '' }])}>Another prefix</TextButton>
            </>
          )}
        </Form>
        <Row>
          <Button variant="contained" disabled={!got.data?.entries || (!own && !to)} onClick={() => start()}>
            Extract
          </Button>
          <Button onClick={onClose}>Not now</Button>
        </Row>
      </DialogContent>
    </Dialog>
  )
}

function Extractions({ project, onClose }: { project: number; onClose: () => void }) {
  const { data, error } = useExtractions(project)
  const { act, fault } = useAct(project)
  return (
    <Dialog open onClose={onClose} maxWidth="md" fullWidth>
      <DialogTitle>Extractions</DialogTitle>
      <DialogContent>
        <Fault error={error ?? fault} />
        <Rows>
          {data?.map((x) => (
            <Item key={x.id} data-extraction={x.id} data-state={x.state}>
              <Row between>
                <b>{x.title}</b>
                <Tag
                  tone={
                    x.state === 'done'
                      ? x.summary?.failed
                        ? 'warn'
                        : 'good'
                      : x.state === 'failed'
                        ? 'bad'
                        : 'plain'
                  }
                >
                  {x.state === 'waiting' ? 'waits' : x.state === 'running' ? 'under way' : x.state}
                </Tag>
              </Row>
              <Text as="small" mono>
                {x.to}
              </Text>
              <small>
                {x.summary ? (
                  <>
                    {plural(x.summary.entries, 'entry', 'entries')} of {count(x.entries)},{' '}
                    {bytes(x.summary.bytes)} in {seconds(x.summary.seconds)}
                    {x.summary.seconds > 0.05 && `, ${bytes(x.summary.bytes / x.summary.seconds)}/s`}
                    {x.summary.skipped > 0 && ` · ${count(x.summary.skipped)} skipped`}
                    {x.summary.resumed > 0 && ` · ${count(x.summary.resumed)} of an earlier run`}
                  </>
                ) : (
                  <>
                    {plural(x.entries, 'entry', 'entries')}, {bytes(x.bytes)}
                  </>
                )}
              </small>
              {x.error && (
                <Text as="small" tone="bad">
                  {x.error}
                </Text>
              )}
              {x.summary?.failures.slice(0, 5).map((f) => (
                <Text as="small" tone="bad" key={f.source + f.entry}>
                  {f.error}
                </Text>
              ))}
              {(x.summary?.failed ?? 0) > 5 && (
                <Text as="small" tone="bad">
                  and {count(x.summary!.failed - 5)} more
                </Text>
              )}
              {x.summary?.changes.slice(0, 3).map((c) => (
                <Text as="small" tone="warn" key={c.entry + c.to}>
                  {c.entry} is written as {c.to}: {c.why}
                </Text>
              ))}
              {(x.summary?.changes.length ?? 0) > 3 && (
                <Text as="small" tone="warn">
                  and {count(x.summary!.changes.length - 3)} more names
                </Text>
              )}
              <Row as="span">
                {(x.state === 'failed' || x.state === 'cancelled') && (
                  <TextButton onClick={() => act(() => resumeExtraction(x.id))}>
                    Go on where it stopped
                  </TextButton>
                )}
                {x.summary && (
                  <TextButton component="a" href={`/api/extractions/${x.id}/summary`}>
                    Save the summary
                  </TextButton>
                )}
              </Row>
            </Item>
          ))}
        </Rows>
      </DialogContent>
    </Dialog>
  )
}
