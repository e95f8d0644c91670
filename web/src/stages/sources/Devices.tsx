// Live outside systems: connect to one, see what it offers, pull it in.
import { Button, Checkbox, Dialog, DialogContent, DialogTitle, OutlinedInput } from '@mui/material'
import { keepPreviousData, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { api, ok, refresh, useDevices, type S } from '../../api/client'
import { Fault } from '../../parts/bits'
import { bytes, count, plural } from '../../parts/format'

export function Devices({ project, onClose }: { project: number; onClose: () => void }) {
  const q = useQueryClient()
  const { data, error } = useDevices(project)
  const [at, setAt] = useState(0)
  const [address, setAddress] = useState('')
  const [token, setToken] = useState('')
  const [fault, setFault] = useState<unknown>()
  const device = data?.find((d) => d.id === at) ?? data?.find((d) => d.online) ?? data?.[0]
  const run = async (f: () => Promise<unknown>) => {
    setFault(undefined)
    try {
      await f()
    } catch (e) {
      setFault(e)
    } finally {
      void refresh(q, project)
    }
  }
  const connect = () =>
    run(async () => {
      const d = await ok(
        api.POST('/api/projects/{project}/devices', {
          params: { path: { project } },
          body: { address, token: token || undefined },
        }),
      )
      setAt(d.id)
      setAddress('')
      setToken('')
    })
  return (
    <Dialog open onClose={onClose} maxWidth="md" fullWidth>
      <DialogTitle>Devices</DialogTitle>
      <DialogContent>
        <form
          className="row"
          onSubmit={(e) => {
            e.preventDefault()
            void connect()
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
        {device && <Offers key={device.id} project={project} device={device} onPull={onClose} run={run} />}
      </DialogContent>
    </Dialog>
  )
}

function Offers({
  project,
  device,
  onPull,
  run,
}: {
  project: number
  device: S['Device']
  onPull: () => void
  run: (f: () => Promise<unknown>) => Promise<void>
}) {
  const q = useQueryClient()
  const path = { params: { path: { device: device.id } } }
  const { data, error } = useQuery({
    queryKey: ['p', project, 'offers', device.id, device.running ? 0 : device.frame],
    enabled: device.online,
    placeholderData: keepPreviousData,
    queryFn: () => ok(api.GET('/api/devices/{device}/offers', path)),
  })
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
    run(async () => {
      await ok(api.POST('/api/devices/{device}/control', { ...path, body: { do: what, frames } }))
      await q.invalidateQueries({ queryKey: ['p', project, 'offers', device.id] })
    })
  if (!device.online)
    return (
      <div className="notice">
        {device.error}{' '}
        <button
          className="link"
          onClick={() => void run(() => ok(api.DELETE('/api/devices/{device}', path)))}
        >
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
              <Button onClick={() => void control(device.running ? 'pause' : 'run')}>
                {device.running ? 'Pause' : 'Run'}
              </Button>
              <Button onClick={() => void control('step', 1)}>1 frame on</Button>
              <Button onClick={() => void control('step', 30)}>30 frames on</Button>
            </>
          )}
          <span className="soft small mono">{device.address}</span>
        </span>
        <span className="row">
          <button
            className="link"
            onClick={() => void run(() => ok(api.DELETE('/api/devices/{device}', path)))}
          >
            Disconnect
          </button>
          <Button
            variant="contained"
            disabled={chosen.length === 0}
            onClick={() =>
              void run(async () => {
                await ok(
                  api.POST('/api/devices/{device}/pull', {
                    ...path,
                    body: { offers: chosen.map((o) => o.id) },
                  }),
                )
                onPull()
              })
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
                    {o.thumb && (
                      <img
                        className="thumb"
                        alt=""
                        src={`/api/devices/${device.id}/thumb?offer=${encodeURIComponent(o.id)}`}
                      />
                    )}
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
