// The foot line: the work under way with its progress, and a way to stop it.
import { Button, styled, useColorScheme } from '@mui/material'
import { useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import type { S } from '../api/http'
import { cancelJob } from '../api/projects'
import { bytes, count } from '../parts/format'
import { Meter } from '../parts/Meter'
import { Tone } from '../parts/Tone'
import { useUploads, type Sending } from '../parts/upload'

const Line = styled('footer')({
  borderTop: '1px solid var(--line)',
  background: 'var(--panel)',
  fontSize: 12,
  color: 'var(--soft)',
  display: 'flex',
  gap: 22,
  alignItems: 'center',
  padding: '0 20px',
  minWidth: 0,
  whiteSpace: 'nowrap',
  overflow: 'hidden',
  '& > .state': {
    flex: 1,
    display: 'flex',
    gap: 22,
    alignItems: 'center',
    minWidth: 0,
    '& > *': { overflow: 'hidden', textOverflow: 'ellipsis' },
    '& > button': { flex: 'none' },
  },
  '& .doing': { color: 'var(--ink)' },
})

const Small = styled(Button)({ fontSize: 12, lineHeight: '18px', padding: '0 7px' })

export function Foot({ jobs, onHelp }: { jobs: S['Job'][]; onHelp: () => void }) {
  const { mode, setMode, systemMode } = useColorScheme()
  const dark = (mode === 'system' ? systemMode : mode) === 'dark'
  const { sending, stop } = useUploads()
  const [seen, setSeen] = useState(0)
  const busy = jobs.filter((j) => j.state === 'running' || j.state === 'queued')
  const job = busy.find((j) => j.state === 'running') ?? busy[0]
  const failed = jobs.find((j) => j.state === 'failed' && j.id > seen)
  return (
    <Line>
      <div className="state" role="status">
        {sending ? (
          <Taking sending={sending} stop={stop} />
        ) : job ? (
          <Under job={job} more={busy.length - 1} />
        ) : failed ? (
          <>
            <Tone is="bad">
              {failed.title} failed: {failed.error}
            </Tone>
            <Small onClick={() => setSeen(failed.id)}>Seen</Small>
          </>
        ) : (
          <span>Nothing under way</span>
        )}
      </div>
      <Small data-mode={dark ? 'dark' : 'light'} onClick={() => setMode(dark ? 'light' : 'dark')}>
        {dark ? 'Light' : 'Dark'}
      </Small>
      <span>Sources are read-only</span>
      <Small onClick={onHelp}>
        <kbd>?</kbd>&nbsp;shortcuts
      </Small>
    </Line>
  )
}

const left = (seconds: number) => (seconds >= 1 ? ` · ${Math.round(seconds)} s left` : '')

function Taking({ sending, stop }: { sending: Sending; stop?: () => void }) {
  return (
    <>
      <span className="doing">Taking in {sending.name}</span>
      <span>
        <Meter part={sending.total ? sending.sent / sending.total : 1} />
        {bytes(sending.sent)} of {bytes(sending.total)} · {bytes(sending.rate)}/s
        {sending.rate > 0 && left((sending.total - sending.sent) / sending.rate)}
      </span>
      <Small onClick={() => stop?.()}>Stop</Small>
    </>
  )
}

function Under({ job, more }: { job: S['Job']; more: number }) {
  const q = useQueryClient()
  const [, tick] = useState(0)
  useEffect(() => {
    const t = setInterval(() => tick((n) => n + 1), 500)
    return () => clearInterval(t)
  }, [])
  // Bytes tell the time better where they are counted: entries differ in size.
  const inBytes = job.bytesTotal > 0
  const done = inBytes ? job.bytes : job.done
  const total = inBytes ? job.bytesTotal : job.total
  const rate = job.seconds > 0.5 ? done / job.seconds : 0
  return (
    <>
      <span className="doing">
        {job.title}
        {more > 0 && ` and ${more} more`}
      </span>
      <span>
        <Meter part={total ? done / total : 0} />
        {job.state === 'queued'
          ? 'waits'
          : job.total === 0
            ? 'begins'
            : `${count(job.done)} of ${count(job.total)} ${job.unit}` +
              (inBytes ? ` · ${bytes(job.bytes)} of ${bytes(job.bytesTotal)}` : '') +
              (inBytes && rate > 0 ? ` · ${bytes(rate)}/s` : '') +
              (rate > 0 ? left((total - done) / rate) : '')}
      </span>
      <Small onClick={() => void cancelJob(job.id).finally(() => void q.invalidateQueries())}>Stop</Small>
    </>
  )
}
