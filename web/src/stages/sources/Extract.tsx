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
import type { Chosen } from './Table'

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
      <div className="row wrap">
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
          <button className="link" onClick={() => setList(true)} data-extractions={done.data!.length}>
            {last.state === 'done'
              ? `${plural(last.summary?.entries ?? 0, 'entry', 'entries')} extracted`
              : last.state === 'failed'
                ? 'An extraction stopped'
                : last.state === 'cancelled'
                  ? 'Stopped'
                  : 'Extracting'}
          </button>
        )}
      </div>
      <div className="soft small">
        {n > 0 ? (
          <>
            {plural(n, 'entry', 'entries')}, {bytes(plain.data?.bytes ?? 0)}
            {missing.length > 0 && (
              <span className="warn"> · {plural(missing.length, 'name')} not found</span>
            )}{' '}
            · into a new folder, nothing is overwritten
          </>
        ) : (
          'Choose entries with click, Shift and Ctrl, or with Shift and the arrow keys; Ctrl A takes all that fit.'
        )}
      </div>
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
        <div className="form flush">
          <div className="row">
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
          </div>
          <FormControlLabel
            control={<Checkbox checked={needs} onChange={(e) => setNeeds(e.target.checked)} />}
            label="With all that they need"
          />
          <FormControlLabel
            control={<Checkbox checked={winners} onChange={(e) => setWinners(e.target.checked)} />}
            label="Where several sources hold a path, only the one that wins"
          />
          {got.data && got.data.missing.length > 0 && (
            <div className="notice">
              Needed and not found: {got.data.missing.slice(0, 5).join(', ')}
              {got.data.missing.length > 5 && ` and ${count(got.data.missing.length - 5)} more`}
            </div>
          )}
          <label className="f">
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
          </label>
          {own ? (
            <label className="f">
              Name
              <OutlinedInput
                fullWidth
                value={name}
                onChange={(e) => setName(e.target.value)}
                inputProps={{ 'aria-label': 'Name', maxLength: 120 }}
              />
            </label>
          ) : (
            <>
              <label className="f">
                Path
                <OutlinedInput
                  fullWidth
                  value={to}
                  onChange={(e) => setTo(e.target.value)}
                  placeholder={form === 'zip' ? '/folder/name.zip' : '/folder'}
                  inputProps={{ 'aria-label': 'Path to extract to', className: 'mono', spellCheck: false }}
                />
              </label>
              <label className="f">
                Where a file is there already
                <Select
                  fullWidth
                  value={policy}
                  onChange={(e) => setPolicy(e.target.value as typeof policy)}
                  inputProps={{ 'aria-label': 'Where a file is there already' }}
                >
                  <MenuItem value="refuse">Report it; leave both as they are</MenuItem>
                  <MenuItem value="skip">Skip the entry</MenuItem>
                  <MenuItem value="replace">Replace the file</MenuItem>
                  <MenuItem value="keep-both">Keep both, under another name</MenuItem>
                </Select>
              </label>
            </>
          )}
          <label className="f">
            Paths
            <Select
              fullWidth
              value={layout}
              onChange={(e) => setLayout(e.target.value as typeof layout)}
              inputProps={{ 'aria-label': 'Paths' }}
            >
              <MenuItem value="keep">As they are in the source</MenuItem>
              <MenuItem value="map">Moved to a target's folders</MenuItem>
              <MenuItem value="flat">All in one folder</MenuItem>
            </Select>
          </label>
          {layout === 'map' && (
            <>
              {map.map((m, i) => (
                <div className="row" key={i}>
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
                  <button className="mini" onClick={() => setMap(map.filter((_, k) => k !== i))}>
                    Remove
                  </button>
                </div>
              ))}
              <button className="link" onClick={() => setMap([...map, { from: '', to: '' }])}>
                Another prefix
              </button>
            </>
          )}
        </div>
        <div className="row">
          <Button variant="contained" disabled={!got.data?.entries || (!own && !to)} onClick={() => start()}>
            Extract
          </Button>
          <Button onClick={onClose}>Not now</Button>
        </div>
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
        <div className="rows">
          {data?.map((x) => (
            <div className="item" key={x.id} data-extraction={x.id} data-state={x.state}>
              <div className="row between">
                <b>{x.title}</b>
                <span
                  className={`tag ${x.state === 'done' ? (x.summary?.failed ? 'w' : 'g') : x.state === 'failed' ? 'b' : ''}`}
                >
                  {x.state === 'waiting' ? 'waits' : x.state === 'running' ? 'under way' : x.state}
                </span>
              </div>
              <small className="mono">{x.to}</small>
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
              {x.error && <small className="bad">{x.error}</small>}
              {x.summary?.failures.slice(0, 5).map((f) => (
                <small className="bad" key={f.source + f.entry}>
                  {f.error}
                </small>
              ))}
              {(x.summary?.failed ?? 0) > 5 && (
                <small className="bad">and {count(x.summary!.failed - 5)} more</small>
              )}
              {x.summary?.changes.slice(0, 3).map((c) => (
                <small className="warn" key={c.entry + c.to}>
                  {c.entry} is written as {c.to}: {c.why}
                </small>
              ))}
              {(x.summary?.changes.length ?? 0) > 3 && (
                <small className="warn">and {count(x.summary!.changes.length - 3)} more names</small>
              )}
              <span className="row">
                {(x.state === 'failed' || x.state === 'cancelled') && (
                  <button className="link" onClick={() => act(() => resumeExtraction(x.id))}>
                    Go on where it stopped
                  </button>
                )}
                {x.summary && (
                  <a className="link" href={`/api/extractions/${x.id}/summary`}>
                    Save the summary
                  </a>
                )}
              </span>
            </div>
          ))}
        </div>
      </DialogContent>
    </Dialog>
  )
}
