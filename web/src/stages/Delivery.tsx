// Delivery: what is made of a chain's end, what went into it, and what was made
// before.
import {
  Button,
  Dialog,
  DialogActions,
  DialogContent,
  DialogTitle,
  styled,
  Table,
  TableBody,
  TableCell,
  TableHead,
  TableRow,
} from '@mui/material'
import { useState } from 'react'
import { Link } from 'react-router'
import { deliver, deliveryFile, useDeliveries, useRehearsal } from '../api/chains'
import { useFind, useFindSources } from '../api/finds'
import { useAct, type S } from '../api/http'
import { Fault } from '../parts/bits'
import { useChainAtWork } from '../parts/chainAtWork'
import { Empty } from '../parts/Empty'
import { Facts } from '../parts/Facts'
import { bytes, named, plural, when } from '../parts/format'
import { Head } from '../parts/Head'
import { Item } from '../parts/Item'
import { Pane } from '../parts/Pane'
import { Panes } from '../parts/Panes'
import { Tag } from '../parts/Tag'
import { TextButton } from '../parts/TextButton'
import { Tone } from '../parts/Tone'

interface Manifest {
  file: string
  sha256: string
  target?: string
  excavate: string
  sources: { name: string; sha256?: string; entries: string[]; terms: { text?: string; owner?: string } }[]
  chain: { chain: string; steps: { step: string; off?: boolean }[] }
  stepVersions: Record<string, number>
  rehearsal?: { stops: number; warns: number; holds: number }
  notes: string[]
}

const Body = styled('div')({ padding: '10px 18px 12px', fontSize: 13 })
const Lines = styled('small')({ whiteSpace: 'pre-line' })
const Hash = styled('span')({ fontFamily: 'var(--mono)', fontSize: 12.5, overflowWrap: 'anywhere' })

export function Delivery() {
  const { project, chain, chains, error } = useChainAtWork('delivery')
  const { data: list, error: fail } = useDeliveries(project)
  const { data: r } = useRehearsal(project, chain?.id)
  const { data: find } = useFind(project, chain?.find)
  const { act, fault, busy } = useAct(project)
  const [open, setOpen] = useState(0)
  const [asking, setAsking] = useState(false)
  if (chains?.length === 0)
    return (
      <Empty title="Nothing to deliver yet">
        Start a chain for an asset in <Link to={`/p/${project}/finds`}>Finds</Link>.
      </Empty>
    )
  const stops = r?.ready ? r.stops : 0
  const make = (despite: boolean) => {
    setAsking(false)
    act(
      () => deliver(chain!.id, despite),
      (d) => setOpen(d.id),
    )
  }
  const shown = list?.find((d) => d.id === (open || list[0]?.id))
  return (
    <>
      <Panes
        id="delivery"
        widths={[{ of: 316, least: 240 }, 'rest']}
        labels={['what is delivered', 'deliveries']}
      >
        <Pane>
          <Head title={find ? `Deliver ${find.name}` : 'Deliver'} />
          <Fault error={error ?? fail ?? fault} />
          <Body>
            A GLB with skin, motion and pictures inside, in a zip with its manifest and chain.
            {r?.ready && (
              <p>
                {stops > 0 ? (
                  <>
                    <Tone is="bad">The rehearsal stops it: {plural(stops, 'finding')}.</Tone>{' '}
                    <Link to={`/p/${project}/rehearsal/${chain?.id}`}>See them</Link>
                  </>
                ) : (
                  <Tone is="good">
                    The rehearsal finds nothing that stops it
                    {r.warns > 0 && `, and ${plural(r.warns, 'warning')}`}.
                  </Tone>
                )}
              </p>
            )}
            <p>
              <Button
                variant={stops > 0 ? 'outlined' : 'contained'}
                onClick={() => (stops > 0 ? setAsking(true) : make(false))}
                disabled={!chain || !find?.model || busy}
              >
                {stops > 0 ? 'Make delivery…' : 'Make delivery'}
              </Button>
            </p>
          </Body>
          <MadeFrom project={project} find={chain?.find} />
        </Pane>
        <Pane>
          <Made list={list} shown={shown} onOpen={setOpen} />
          {list?.length === 0 && (
            <Empty title="Nothing delivered yet">
              Make a delivery on the left. The rehearsal says beforehand what the target will object to.
            </Empty>
          )}
          {shown?.error && <Fault error={{ message: shown.error }} />}
          {shown?.manifest && <ManifestOf delivery={shown} />}
        </Pane>
      </Panes>
      <Dialog
        open={asking}
        onClose={() => setAsking(false)}
        maxWidth="xs"
        fullWidth
        aria-labelledby="despite"
      >
        <DialogTitle id="despite">The target would refuse it</DialogTitle>
        <DialogContent>
          <p>
            The rehearsal stops {find?.name}:{' '}
            {named(
              (r?.findings ?? []).filter((f) => f.severity === 'stops').map((f) => f.title),
              4,
            )}
            . What is made all the same carries that mark for good.
          </p>
        </DialogContent>
        <DialogActions>
          <Button onClick={() => make(true)}>Make it all the same</Button>
          <Button variant="contained" component={Link} to={`/p/${project}/rehearsal/${chain?.id}`}>
            See what stops it
          </Button>
        </DialogActions>
      </Dialog>
    </>
  )
}

/** The sources that the asset was made from, and whose they are. */
function MadeFrom({ project, find }: { project: number; find?: number }) {
  const { data: sources } = useFindSources(project, find)
  if (!sources) return null
  return (
    <>
      <Head title="Made from" ruled />
      {sources.map((s) => (
        <Item key={s.source} data-origin={s.source}>
          <b>{s.source}</b>{' '}
          <Tag tone={s.rights && s.short !== 'private use only' ? 'plain' : 'warn'}>{s.short}</Tag>
          {s.rights?.owner && <small>{s.rights.owner}</small>}
          {s.rights?.licence && <Lines>{s.rights.licence}</Lines>}
          {s.text && s.text.trim() !== s.rights?.licence?.trim() && <Lines>{s.text}</Lines>}
          <small>{named(s.entries, 4)}</small>
        </Item>
      ))}
    </>
  )
}

function StateOf({ d }: { d: S['Delivery'] }) {
  if (d.state === 'failed')
    return (
      <span title={d.error}>
        <Tag tone="bad">failed</Tag>
      </span>
    )
  if (d.state !== 'ready') return <Tag>being made</Tag>
  if (d.stops > 0)
    return (
      <span title={`When it was made the rehearsal stopped it: ${plural(d.stops, 'finding')}`}>
        <Tag tone="bad">made despite {plural(d.stops, 'stop')}</Tag>
      </span>
    )
  return <Tag tone="good">ready</Tag>
}

function Made({
  list,
  shown,
  onOpen,
}: {
  list?: S['Delivery'][]
  shown?: S['Delivery']
  onOpen: (id: number) => void
}) {
  return (
    <Table size="small" aria-label="Deliveries">
      <TableHead>
        <TableRow>
          <TableCell>Delivery</TableCell>
          <TableCell>Made</TableCell>
          <TableCell align="right">Size</TableCell>
          <TableCell>State</TableCell>
          <TableCell />
        </TableRow>
      </TableHead>
      <TableBody>
        {list?.map((d) => (
          <TableRow
            key={d.id}
            selected={d.id === shown?.id}
            data-delivery={d.id}
            data-state={d.state}
            data-stops={d.stops}
          >
            <TableCell>
              <TextButton aria-pressed={d.id === shown?.id} onClick={() => onOpen(d.id)}>
                {d.name}
              </TextButton>
            </TableCell>
            <TableCell>{when(d.created)}</TableCell>
            <TableCell align="right">{d.state === 'ready' ? bytes(d.size) : ''}</TableCell>
            <TableCell>
              <StateOf d={d} />
            </TableCell>
            <TableCell align="right">
              {d.state === 'ready' && (
                <Button
                  component="a"
                  href={deliveryFile(d.id)}
                  download={d.name}
                  aria-label={`Download ${d.name}`}
                  data-download
                >
                  Download
                </Button>
              )}
            </TableCell>
          </TableRow>
        ))}
      </TableBody>
    </Table>
  )
}

function ManifestOf({ delivery }: { delivery: S['Delivery'] }) {
  const m = delivery.manifest as unknown as Manifest
  const steps = m.chain.steps
    .map((s) => s.step + (s.off ? ' (off)' : ` v${m.stepVersions[s.step] ?? 1}`))
    .join(' → ')
  return (
    <>
      <Head title={`Manifest of ${delivery.name}`} end={<Tone is="soft">Excavate {m.excavate}</Tone>} ruled />
      <Facts
        of={[
          ['File', m.file],
          ['SHA-256', <Hash key="hash">{m.sha256}</Hash>],
          ['Target', m.target],
          [
            'Rehearsal',
            m.rehearsal && `${m.rehearsal.holds} hold, ${m.rehearsal.warns} warn, ${m.rehearsal.stops} stop`,
          ],
          ['Chain', steps || 'no steps'],
        ]}
      />
      <Table size="small" aria-label="Sources of the delivery">
        <TableHead>
          <TableRow>
            <TableCell>Source</TableCell>
            <TableCell>Taken from it</TableCell>
            <TableCell>SHA-256</TableCell>
          </TableRow>
        </TableHead>
        <TableBody>
          {m.sources.map((s) => (
            <TableRow key={s.name}>
              <TableCell>{s.name}</TableCell>
              <TableCell>
                {s.entries.map((e) => (
                  <div key={e}>{e}</div>
                ))}
              </TableCell>
              <TableCell>
                <Hash title={s.sha256}>
                  {s.sha256?.slice(0, 16)}
                  {s.sha256 && '…'}
                </Hash>
              </TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
      {m.notes.map((n) => (
        <Item key={n}>
          <Tag tone="warn">note</Tag> {n}
        </Item>
      ))}
    </>
  )
}
