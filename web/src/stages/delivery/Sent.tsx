// What a receiver said of a delivery, beside what was foretold.
import { Button, styled } from '@mui/material'
import { useState } from 'react'
import { afterUpdate, deliverySeen } from '../../api/chains'
import { useAct, type S } from '../../api/http'
import { Fault } from '../../parts/bits'
import { Facts } from '../../parts/Facts'
import { named, plural, seconds } from '../../parts/format'
import { Head } from '../../parts/Head'
import { Item } from '../../parts/Item'
import { Tag } from '../../parts/Tag'
import { Text } from '../../parts/Text'
import { Tone } from '../../parts/Tone'

interface Outcome {
  rule: string
  foretold: boolean
  happened: boolean
  title: string
  where?: string
  severity?: string
  says: string[]
}
interface Place {
  at: [number, number, number]
  why: string
}
interface Taken {
  asset: string
  error?: string
  seen?: string
  report: {
    target: string
    materials: { name: string; state: string }[]
    skeleton: string
    walk?: {
      places: number
      stands: number
      falls: Place[]
      floats: Place[]
      blocked: Place[]
      spacing: number
    }
  }
  outcomes: Outcome[]
}
interface Sent {
  receiver: string
  name: string
  state: 'waiting' | 'sending' | 'taken' | 'failed'
  error?: string
  seconds: number
  taken: Taken[]
}

const sentOf = (d: S['Delivery']) => d.sent as unknown as Sent | undefined

/** How far a delivery is with its receiver, in a word. */
export function stateOf(d: S['Delivery']) {
  const s = sentOf(d)
  if (!s) return ''
  if (s.state === 'waiting') return <Tag>sent once made</Tag>
  if (s.state === 'sending') return <Tag>being sent</Tag>
  if (s.state === 'failed') return <Tag tone="bad">not sent</Tag>
  const off = s.taken.flatMap((x) => x.outcomes).filter((o) => o.foretold !== o.happened).length
  return <Tag tone={off > 0 ? 'warn' : 'good'}>{off > 0 ? plural(off, 'difference') : 'as foretold'}</Tag>
}

const Sums = styled('div')({
  display: 'grid',
  gridTemplateColumns: 'repeat(3, 1fr)',
  borderBottom: '1px solid var(--line)',
  '& > div': {
    padding: '12px 18px',
    borderRight: '1px solid var(--line)',
    fontSize: 12.5,
    color: 'var(--soft)',
  },
  '& > div:last-child': { borderRight: 0 },
  '& b': { display: 'block', fontSize: 20, fontWeight: 600, color: 'var(--ink)' },
})
const Line = styled('div')({
  display: 'grid',
  gridTemplateColumns: '64px minmax(0, 1fr) 130px',
  gap: 12,
  alignItems: 'baseline',
  padding: '7px 18px',
  borderBottom: '1px solid var(--thin)',
  fontSize: 13,
  '& small': { display: 'block', color: 'var(--soft)', overflowWrap: 'anywhere' },
  '& > :first-of-type': { justifySelf: 'start' },
  '& > :last-child': { textAlign: 'right' },
})
const Seen = styled('img')({ display: 'block', width: '100%', maxWidth: 720, background: 'var(--sunk)' })
const Two = styled('div')({
  display: 'grid',
  gridTemplateColumns: 'minmax(0, 600px) minmax(280px, 1fr)',
  borderBottom: '1px solid var(--line)',
})

const at = (p: Place) => `${p.at.map((v) => v.toFixed(2)).join(', ')} m: ${p.why}`

export function SentTo({
  project,
  delivery,
  receivers,
}: {
  project: number
  delivery: S['Delivery']
  receivers?: S['Receiver'][]
}) {
  const s = sentOf(delivery)!
  const { act, fault, busy } = useAct(project)
  const [survived, setSurvived] = useState<S['Survived']>()
  const updates = receivers?.some((r) => r.id === s.receiver && r.kind === 'film')
  return (
    <>
      <Head
        title={`Foretold and happened · ${s.name || s.receiver}`}
        end={
          <span data-sent={s.state}>
            {(s.state === 'waiting' || s.state === 'sending') && <Tag>being sent</Tag>}
            {s.state === 'failed' && <Tag tone="bad">not sent</Tag>}
            {s.state === 'taken' && <Tag tone="good">imported, {seconds(s.seconds)}</Tag>}{' '}
            {s.state === 'taken' && updates && (
              <Button
                size="small"
                disabled={busy}
                title="Its updates write its own folders anew: see whether the delivery lies where it stays"
                onClick={() => act(() => afterUpdate(delivery.id), setSurvived)}
              >
                Update the receiver
              </Button>
            )}
          </span>
        }
        ruled
      />
      <Fault error={fault} />
      {survived && (
        <Item data-gone={survived.gone.length}>
          {survived.gone.length === 0
            ? `After its update all ${plural(survived.files, 'file')} are still there.`
            : `Its update swept away ${survived.gone.length} of ${plural(survived.files, 'file')}: `}
          {survived.gone.length > 0 && named(survived.gone, 6)}
        </Item>
      )}
      {s.error && (
        <Item>
          <Tone is="bad">{s.error}</Tone>
        </Item>
      )}
      {s.state === 'taken' &&
        s.taken.map((x, i) => (
          <TakenOf
            key={i}
            {...x}
            picture={x.seen && deliverySeen(delivery.id, i, x.seen)}
            titled={s.taken.length > 1}
          />
        ))}
    </>
  )
}

/** What a receiver said of one asset. */
function TakenOf({
  asset,
  error,
  report,
  outcomes,
  picture,
  titled,
}: Taken & { picture?: string; titled: boolean }) {
  const hit = outcomes.filter((o) => o.foretold && o.happened).length
  const missed = outcomes.filter((o) => !o.foretold && o.happened)
  const idle = outcomes.filter((o) => o.foretold && !o.happened)
  const held = outcomes.filter((o) => !o.foretold && !o.happened)
  const said = outcomes.filter((o) => o.foretold || o.happened)
  const w = report.walk
  return (
    <>
      {titled && <Head title={asset} plain />}
      {error && (
        <Item>
          <Tone is="bad">{error}</Tone>
        </Item>
      )}
      <Sums>
        <div>
          <b data-hit={hit}>{hit}</b>foretold and happened
        </div>
        <div>
          <b data-missed={missed.length}>{missed.length}</b>happened, not foretold
        </div>
        <div>
          <b data-idle={idle.length}>{idle.length}</b>foretold, did not happen
        </div>
      </Sums>
      <Two>
        {picture && <Seen src={picture} alt="What the receiver sees" data-seen />}
        <div>
          {w && w.places > 0 && (
            <>
              <Head title="What the figure met" plain end={<Text tone="soft">1.75 m tall</Text>} />
              <Facts
                names={150}
                of={[
                  ['Stands', <span key="s" data-stands={w.stands}>{`${w.stands} of ${w.places}`}</span>],
                  ['Falls through', String(w.falls.length)],
                  ['Floats by 2 cm or more', String(w.floats.length)],
                  ['Cannot pass', String(w.blocked.length)],
                  ['Dropped every', `${Math.round(w.spacing * 100) / 100} m`],
                ]}
              />
              {[...w.blocked, ...w.falls, ...w.floats].slice(0, 6).map((p, i) => (
                <Item key={i}>
                  <small>{at(p)}</small>
                </Item>
              ))}
            </>
          )}
          <Facts
            names={150}
            of={[
              ['Skeleton', report.skeleton],
              ['Materials made', String(report.materials.filter((m) => m.state === 'made').length)],
              [
                'Used again',
                report.materials
                  .filter((m) => m.state === 'used again')
                  .map((m) => m.name)
                  .join(', '),
              ],
              [
                'Made twice',
                report.materials
                  .filter((m) => m.state === 'made twice')
                  .map((m) => m.name)
                  .join(', '),
              ],
              [
                'Without picture',
                report.materials
                  .filter((m) => m.state === 'missing picture')
                  .map((m) => m.name)
                  .join(', '),
              ],
            ]}
          />
        </div>
      </Two>
      {said.map((o) => (
        <Line key={o.rule} data-outcome={o.rule}>
          <Tag tone={o.foretold ? (o.severity === 'stops' ? 'bad' : 'warn') : 'good'}>
            {o.foretold ? o.severity : 'holds'}
          </Tag>
          <div>
            {o.title || o.rule}
            {o.foretold && o.where && <small>foretold: {o.where}</small>}
            {o.says.map((x) => (
              <small key={x}>“{x}”</small>
            ))}
          </div>
          {o.foretold === o.happened ? (
            <Tone is="good">same</Tone>
          ) : (
            <Tone is="warn">{o.happened ? 'not foretold' : 'did not happen'}</Tone>
          )}
        </Line>
      ))}
      {held.length > 0 && (
        <Line data-held={held.length}>
          <Tag tone="good">hold</Tag>
          <div>
            {plural(held.length, 'rule holds', 'rules hold')}, and nothing happened
            <small>{held.map((o) => o.rule).join(', ')}</small>
          </div>
          <Tone is="good">same</Tone>
        </Line>
      )}
      {(missed.length > 0 || idle.length > 0) && (
        <Item>
          <Text tone="soft">A difference is a fault of the sheet or of ours, never yours.</Text>
        </Item>
      )}
    </>
  )
}
