// Live outside systems: connect to one, see what it offers, pull it in.
import { Button, Checkbox, Dialog, DialogContent, DialogTitle, OutlinedInput } from '@mui/material'
import { useState } from 'react'
import {
  connectDevice,
  controlDevice,
  forgetDevice,
  offerThumb,
  pull,
  useDevices,
  useNearby,
  useOffers,
} from '../../api/devices'
import { useAct, type Act, type S } from '../../api/http'
import { Fault } from '../../parts/bits'
import { bytes, count, plural } from '../../parts/format'
import { Table, TableHead, TableBody, TableRow, TableCell } from '@mui/material'
import { Notice } from '../../parts/Notice'
import { Row } from '../../parts/Row'
import { Rows } from '../../parts/Scroll'
import { Text } from '../../parts/Text'
import { TextButton } from '../../parts/TextButton'
import { Tools } from '../../parts/Tools'
import { TagButton } from '../../parts/TagButton'
import { Tag } from '../../parts/Tag'

export function Devices({ project, onClose }: { project: number; onClose: () => void }) {
  const { data, error } = useDevices(project)
  const { data: nearby } = useNearby()
  const [at, setAt] = useState(0)
  const [address, setAddress] = useState('')
  const [token, setToken] = useState('')
  const device = data?.find((d) => d.id === at) ?? data?.find((d) => d.online) ?? data?.[0]
  const { act, fault } = useAct(project)
  const connect = () =>
    act(
      () => connectDevice(project, address, token),
      (d) => {
        setAt(d.id)
        setAddress('')
        setToken('')
      },
    )
  return (
    <Dialog open onClose={onClose} maxWidth="md" fullWidth>
      <DialogTitle>Devices</DialogTitle>
      <DialogContent>
        <Row
          as="form"

          onSubmit={(e) => {
            e.preventDefault()
            connect()
          }}
        >
          <OutlinedInput
            className="grow"
            value={address}
            onChange={(e) => setAddress(e.target.value)}
            placeholder="http://127.0.0.1:7801"
            inputProps={{ 'aria-label': 'Address of the device', className: 'mono', spellCheck: false }}
          />
          <OutlinedInput
            value={token}
            onChange={(e) => setToken(e.target.value)}
            type="password"
            placeholder="Token, if it asks for one"
            inputProps={{ 'aria-label': 'Token', autoComplete: 'off' }}
          />
          <Button type="submit" variant="contained" disabled={!address.trim()}>
            Connect
          </Button>
        </Row>
        <Fault error={fault ?? error} />
        {nearby?.map((n) => (
          <p key={n.name} data-nearby={n.name}>
            {n.address ? (
              <>
                On this machine: {n.name} at <Text mono>{n.address}</Text>{' '}
                <TextButton
                  onClick={() => {
                    setAddress(n.address!)
                    setToken(n.token ?? '')
                  }}
                >
                  Fill it in{n.token ? ' with its token' : ''}
                </TextButton>
              </>
            ) : (
              n.name
            )}
            {n.note && <Text tone="warn">: {n.note}</Text>}
          </p>
        ))}
        {!data && !error && <p>Asking the devices…</p>}
        {data?.length === 0 && (
          <Text as="p" tone="soft">
            No device yet. Enter the address at which a console simulator or an avatar exchange listens on
            this machine.
          </Text>
        )}
        <Row wrap tabs>
          {data?.map((d) => (
            <TagButton
              key={d.id}
              tone={d.id === device?.id ? 'good' : 'plain'}
              data-device={d.name}
              aria-pressed={d.id === device?.id}
              onClick={() => setAt(d.id)}
            >
              {d.name} ·{' '}
              {d.online
                ? d.frame !== undefined
                  ? `${d.running ? 'runs' : 'paused'} at frame ${count(d.frame)}`
                  : 'connected'
                : 'gone'}
            </TagButton>
          ))}
        </Row>
        {device && <Offers key={device.id} project={project} device={device} onPull={onClose} act={act} />}
      </DialogContent>
    </Dialog>
  )
}

function Offers({
  project,
  device,
  onPull,
  act,
}: {
  project: number
  device: S['Device']
  onPull: () => void
  act: Act['act']
}) {
  const { data, error } = useOffers(project, device)
  const [off, setOff] = useState<Set<string>>(new Set())
  // A console's things belong together; of avatars one chooses.
  const chosen = data?.filter((o) => (device.kind === 'console' ? !off.has(o.name) : off.has(o.name))) ?? []
  const toggle = (name: string) =>
    setOff((s) => {
      const n = new Set(s)
      if (!n.delete(name)) n.add(name)
      return n
    })
  const control = (what: 'pause' | 'run' | 'step', frames?: number) =>
    act(() => controlDevice(device.id, what, frames))
  if (!device.online)
    return (
      <Notice>
        {device.error} <TextButton onClick={() => act(() => forgetDevice(device.id))}>Forget it</TextButton>
      </Notice>
    )
  return (
    <div>
      <Tools flush between className="row wrap">
        <Row as="span">
          {device.kind === 'console' && (
            <>
              <Button onClick={() => control(device.running ? 'pause' : 'run')}>
                {device.running ? 'Pause' : 'Run'}
              </Button>
              <Button onClick={() => control('step', 1)}>1 frame on</Button>
              <Button onClick={() => control('step', 30)}>30 frames on</Button>
            </>
          )}
          <Text tone="soft" small mono>
            {device.address}
          </Text>
        </Row>
        <Row as="span">
          <TextButton onClick={() => act(() => forgetDevice(device.id))}>Disconnect</TextButton>
          <Button
            variant="contained"
            data-pull
            disabled={chosen.length === 0}
            onClick={() =>
              act(
                () =>
                  pull(
                    device.id,
                    chosen.map((o) => o.id),
                  ),
                onPull,
              )
            }
          >
            Pull in {plural(chosen.length, 'file')}, {bytes(chosen.reduce((n, o) => n + o.size, 0))}
          </Button>
        </Row>
      </Tools>
      <Fault error={error} />
      {!data && !error && <p>Asking what it offers…</p>}
      <Rows>
        <Table size="small">
          <TableHead>
            <TableRow>
              <TableCell />
              <TableCell>Name</TableCell>
              <TableCell>What</TableCell>
              <TableCell align="right">Size</TableCell>
              <TableCell>Owner and terms</TableCell>
            </TableRow>
          </TableHead>
          <TableBody>
            {data?.map((o) => (
              <TableRow key={o.name} data-offer={o.name}>
                <TableCell>
                  <Checkbox
                    checked={chosen.includes(o)}
                    onChange={() => toggle(o.name)}
                    slotProps={{ input: { 'aria-label': `Choose ${o.name}` } }}
                  />
                </TableCell>
                <TableCell>
                  <Row>
                    {o.thumb && <img className="thumb" alt="" src={offerThumb(device.id, o.id)} />}
                    <span className={o.thumb ? '' : 'mono'}>
                      {o.thumb ? (
                        <>
                          <b>{o.about}</b>
                          <br />
                          <Text tone="soft" mono>
                            {o.name}
                          </Text>
                        </>
                      ) : (
                        o.name
                      )}
                    </span>
                  </Row>
                </TableCell>
                <TableCell className="soft">{o.thumb ? o.kind : o.about}</TableCell>
                <TableCell align="right">{bytes(o.size)}</TableCell>
                <TableCell>
                  {o.terms?.owner || <Text tone="soft">not stated</Text>}{' '}
                  {o.short && <Tag tone={o.short === 'private use only' ? 'warn' : 'good'}>{o.short}</Tag>}
                </TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      </Rows>
    </div>
  )
}
