// Delivery: what is made of a chain's end and for what, its files before they are
// made, what a receiver says of it, and what was made before.
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
import { deliver, deliveryFile, useDeliveries, useReceivers, useRehearsal, type Order } from '../api/chains'
import { useFind } from '../api/finds'
import { useAct, type S } from '../api/http'
import { useAddress } from '../parts/address'
import { Fault } from '../parts/bits'
import { useChainAtWork } from '../parts/chainAtWork'
import { Empty } from '../parts/Empty'
import { bytes, named, plural, when } from '../parts/format'
import { Pane } from '../parts/Pane'
import { Panes } from '../parts/Panes'
import { Tag } from '../parts/Tag'
import { TextButton } from '../parts/TextButton'
import { Tone } from '../parts/Tone'
import { Composer } from './delivery/Composer'
import { Made } from './delivery/Made'
import { Manifests } from './delivery/Manifest'
import { SentTo, stateOf } from './delivery/Sent'

const Body = styled('div')({ padding: '10px 18px 12px', fontSize: 13 })

export function Delivery() {
  const { project, chain, chains, error } = useChainAtWork('delivery')
  const [params, setAddress] = useAddress()
  const { data: list, error: fail } = useDeliveries(project)
  const { data: r } = useRehearsal(project, chain?.id)
  const { data: find } = useFind(project, chain?.find)
  const { data: receivers } = useReceivers()
  const { act, fault, busy } = useAct(project)
  const [asking, setAsking] = useState<{ send: string }>()
  const [wish, setWish] = useState<Order>({ purpose: 'myself' })
  const [composed, setComposed] = useState<S['Composed']>()
  const open = Number(params.get('delivery') ?? 0)
  const setOpen = (id: number) => setAddress({ delivery: id })
  if (chains?.length === 0)
    return (
      <Empty title="Nothing to deliver yet">
        Start a chain for an asset in <Link to={`/p/${project}/finds`}>Finds</Link>.
      </Empty>
    )
  const others = (chains ?? []).filter((x) => x.target === chain?.target && x.id !== chain.id)
  const also = wish.also?.filter((id) => others.some((x) => x.id === id))
  const order = { ...wish, also: also?.length ? also : undefined }
  const stops = r?.ready ? r.stops : 0
  const to = receivers?.find((x) => chain && x.targets.includes(chain.target))
  const make = (send: string, despite: boolean) => {
    setAsking(undefined)
    act(
      () => deliver(chain!.id, order, despite, send || undefined),
      (d) => setOpen(d.id),
    )
  }
  const stopped = stops > 0 || (!!order.also && !!composed?.stops.length)
  const wanted = (send: string) => (stopped ? setAsking({ send }) : make(send, false))
  const shown = list?.find((d) => d.id === (open || list[0]?.id))
  const off = !chain || !find?.model || busy || !!composed?.refused.length
  const more = stopped ? '…' : ''
  return (
    <>
      <Panes
        id="delivery"
        widths={[{ of: 330, least: 260 }, 'rest']}
        labels={['what is delivered', 'deliveries']}
      >
        <Pane>
          <Fault error={error ?? fail ?? fault} />
          {chain && (
            <Composer
              project={project}
              chain={chain}
              others={others}
              asset={find?.name}
              order={order}
              onOrder={setWish}
              onComposed={setComposed}
            >
              <Body>
                {r?.ready && (
                  <p style={{ marginTop: 0 }}>
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
                {order.also && composed?.stops.some((name) => name !== chain.name) && (
                  <p data-stopped={composed.stops.length}>
                    <Tone is="bad">The rehearsal stops {named(composed.stops, 4)}.</Tone>{' '}
                    <Link to={`/p/${project}/rehearsals`}>See all</Link>
                  </p>
                )}
                <Button
                  variant={stopped ? 'outlined' : 'contained'}
                  onClick={() => wanted('')}
                  disabled={off}
                >
                  Make delivery{more}
                </Button>{' '}
                {to && !to.note && (
                  <Button onClick={() => wanted(to.id)} disabled={off} data-send>
                    Make and send{more}
                  </Button>
                )}
                {to && (
                  <p>
                    <Tone is="soft">
                      {to.note
                        ? `${to.name} is not reached: ${to.note}`
                        : `${to.name} takes it at ${to.address}.`}
                    </Tone>
                  </p>
                )}
              </Body>
            </Composer>
          )}
        </Pane>
        <Pane>
          <List list={list} shown={shown} onOpen={setOpen} />
          {list?.length === 0 && (
            <Empty title="Nothing delivered yet">
              Make a delivery on the left. The rehearsal says beforehand what the target will object to.
            </Empty>
          )}
          {shown?.error && <Fault error={{ message: shown.error }} />}
          {shown?.state === 'ready' && (
            <Made key={shown.id} project={project} delivery={shown} receivers={receivers} />
          )}
          {shown?.sent && (
            <SentTo key={`sent ${shown.id}`} project={project} delivery={shown} receivers={receivers} />
          )}
          {shown?.manifest && <Manifests project={project} delivery={shown} />}
        </Pane>
      </Panes>
      <Dialog
        open={!!asking}
        onClose={() => setAsking(undefined)}
        maxWidth="xs"
        fullWidth
        aria-labelledby="despite"
      >
        <DialogTitle id="despite">The target would refuse it</DialogTitle>
        <DialogContent>
          <p>
            The rehearsal stops{' '}
            {order.also
              ? named(composed?.stops ?? [], 4)
              : `${find?.name}: ${named(
                  (r?.findings ?? []).filter((f) => f.severity === 'stops').map((f) => f.title),
                  4,
                )}`}
            . What is made all the same carries that mark for good.
          </p>
        </DialogContent>
        <DialogActions>
          <Button onClick={() => make(asking?.send ?? '', true)}>Make it all the same</Button>
          <Button variant="contained" component={Link} to={`/p/${project}/rehearsal/${chain?.id}`}>
            See what stops it
          </Button>
        </DialogActions>
      </Dialog>
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
        <Tag tone="bad">despite {plural(d.stops, 'stop')}</Tag>
      </span>
    )
  return <Tag tone="good">ready</Tag>
}

function List({
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
          <TableCell>For</TableCell>
          <TableCell align="right">Size</TableCell>
          <TableCell>State</TableCell>
          <TableCell>Receiver</TableCell>
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
            <TableCell style={{ overflowWrap: 'anywhere', minWidth: 110 }}>
              <TextButton aria-pressed={d.id === shown?.id} onClick={() => onOpen(d.id)}>
                {d.name}
              </TextButton>
            </TableCell>
            <TableCell style={{ whiteSpace: 'nowrap' }}>{when(d.created)}</TableCell>
            <TableCell>{d.purpose === 'myself' ? 'myself' : (d.purpose ?? '').replace('-', ' ')}</TableCell>
            <TableCell align="right" style={{ whiteSpace: 'nowrap' }}>
              {d.state === 'ready' ? bytes(d.size) : ''}
            </TableCell>
            <TableCell>
              <StateOf d={d} />
            </TableCell>
            <TableCell>{stateOf(d)}</TableCell>
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
