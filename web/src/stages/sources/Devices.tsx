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
  useOffers,
} from '../../api/devices'
import { useAct, type Act, type S } from '../../api/http'
import { Fault } from '../../parts/bits'
import { bytes, count, plural } from '../../parts/format'

export function Devices({ project, onClose }: { project: number; onClose: () => void }) {
  const { data, error } = useDevices(project)
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
        <form
          className="row"
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
        </form>
        <Fault error={fault ?? error} />
        {data?.length === 0 && (
          <p className="soft">
            No device yet. Enter the address at which a console simulator or an avatar exchange listens on
            this machine.
          </p>
        )}
        <div className="row wrap tabs">
          {data?.map((d) => (
            <button
              key={d.id}
              className={`tag ${d.id === device?.id ? 'g' : ''}`}
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
            </button>
          ))}
        </div>
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
      <div className="notice">
        {device.error}{' '}
        <button className="link" onClick={() => act(() => forgetDevice(device.id))}>
          Forget it
        </button>
      </div>
    )
  return (
    <div>
      <div className="row wrap between tools flush">
        <span className="row">
          {device.kind === 'console' && (
            <>
              <Button onClick={() => control(device.running ? 'pause' : 'run')}>
                {device.running ? 'Pause' : 'Run'}
              </Button>
              <Button onClick={() => control('step', 1)}>1 frame on</Button>
              <Button onClick={() => control('step', 30)}>30 frames on</Button>
            </>
          )}
          <span className="soft small mono">{device.address}</span>
        </span>
        <span className="row">
          <button className="link" onClick={() => act(() => forgetDevice(device.id))}>
            Disconnect
          </button>
          <Button
            variant="contained"
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
        </span>
      </div>
      <Fault error={error} />
      <div className="rows">
        <table>
          <thead>
            <tr>
              <th />
              <th>Name</th>
              <th>What</th>
              <th className="n">Size</th>
              <th>Owner and terms</th>
            </tr>
          </thead>
          <tbody>
            {data?.map((o) => (
              <tr key={o.name} data-offer={o.name}>
                <td>
                  <Checkbox
                    checked={chosen.includes(o)}
                    onChange={() => toggle(o.name)}
                    slotProps={{ input: { 'aria-label': `Choose ${o.name}` } }}
                  />
                </td>
                <td>
                  <div className="row">
                    {o.thumb && <img className="thumb" alt="" src={offerThumb(device.id, o.id)} />}
                    <span className={o.thumb ? '' : 'mono'}>
                      {o.thumb ? (
                        <>
                          <b>{o.about}</b>
                          <br />
                          <span className="soft mono">{o.name}</span>
                        </>
                      ) : (
                        o.name
                      )}
                    </span>
                  </div>
                </td>
                <td className="soft">{o.thumb ? o.kind : o.about}</td>
                <td className="n">{bytes(o.size)}</td>
                <td className="wide">
                  {o.terms?.owner || <span className="soft">not stated</span>}{' '}
                  {o.short && (
                    <span className={`tag ${o.short === 'private use only' ? 'w' : 'g'}`}>{o.short}</span>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </div>
  )
}
