// The ends of all chains against target sheets: findings by rule, the worst
// first.
import { Checkbox, FormControlLabel, styled } from '@mui/material'
import { Link } from 'react-router'
import { useRehearsals } from '../api/chains'
import { useTargets } from '../api/targets'
import { useAddress } from '../parts/address'
import { Fault } from '../parts/bits'
import { Body } from '../parts/Body'
import { Empty } from '../parts/Empty'
import { Finding } from '../parts/Finding'
import { plural } from '../parts/format'
import { Head } from '../parts/Head'
import { Pane } from '../parts/Pane'
import { Panes } from '../parts/Panes'
import { useProjectId } from '../parts/project'
import { Tag } from '../parts/Tag'
import { Text } from '../parts/Text'

const Broken = styled('div')({
  display: 'grid',
  gridTemplateColumns: 'minmax(120px, 200px) 190px minmax(0, 1fr)',
  gap: 12,
  padding: '3px 0',
  fontSize: 13,
  '& > span': { color: 'var(--soft)', overflowWrap: 'anywhere' },
})

/** How many assets of a rule are listed. */
const most = 12

export function Rehearsals() {
  const project = useProjectId()
  const [params, set] = useAddress()
  const chosen = (params.get('sheets') ?? '').split(',').filter(Boolean)
  const { data: targets } = useTargets()
  const { data, error } = useRehearsals(project, chosen)
  const toggle = (id: string) => {
    const next = chosen.includes(id) ? chosen.filter((x) => x !== id) : [...chosen, id]
    set({ sheets: next.join(',') || undefined })
  }
  return (
    <Panes
      id="rehearsals"
      widths={[{ of: 250, least: 190 }, 'rest']}
      labels={['against', 'findings by rule']}
    >
      <Pane>
        <Head title="Rehearsed against" />
        <Body acts>
          {chosen.length === 0
            ? 'Each chain is held against its own sheet. Tick sheets to hold all chains against them.'
            : `All chains are held against ${plural(chosen.length, 'sheet', 'sheets')}.`}
        </Body>
        <Body>
          {targets?.map((t) => (
            <div key={t.id}>
              <FormControlLabel
                control={<Checkbox checked={chosen.includes(t.id)} onChange={() => toggle(t.id)} />}
                label={t.name}
              />
            </div>
          ))}
        </Body>
      </Pane>
      <Pane ground>
        <Fault error={error} />
        {data && (
          <Head
            title="Findings by rule"
            end={
              <Text tone="soft" data-rehearsals={data.rehearsals}>
                {plural(data.rehearsals, 'rehearsal', 'rehearsals')}
                {data.waiting > 0 && `, ${plural(data.waiting, 'chain is', 'chains are')} not computed yet`}
              </Text>
            }
          />
        )}
        {data && data.rows.length === 0 && data.rehearsals > 0 && (
          <Empty>
            <b>Nothing to object to</b>Every rule holds for every chain.
          </Empty>
        )}
        {data && data.rehearsals === 0 && (
          <Empty>
            <b>Nothing to rehearse yet</b>Start a chain for an asset in{' '}
            <Link to={`/p/${project}/finds`}>Finds</Link>.
          </Empty>
        )}
        {data?.rows.map((r) => (
          <Finding key={r.rule} data-row={r.rule}>
            <div className="tg">
              <Tag tone={r.severity === 'stops' ? 'bad' : 'warn'}>{r.severity}</Tag>
            </div>
            <div className="grow">
              <b>{r.title}</b>{' '}
              <Text tone="soft" small>
                {r.rule}, {plural(r.assets.length, 'rehearsal', 'rehearsals')}
              </Text>
              {r.assets.slice(0, most).map((a) => (
                <Broken key={`${a.chain} ${a.target}`}>
                  <Link to={`/p/${project}/rehearsal/${a.chain}`}>{a.name}</Link>
                  <span>{targets?.find((t) => t.id === a.target)?.name ?? a.target}</span>
                  <span>{a.where}</span>
                </Broken>
              ))}
              {r.assets.length > most && (
                <Text tone="soft" small>
                  and {r.assets.length - most} more
                </Text>
              )}
            </div>
          </Finding>
        ))}
      </Pane>
    </Panes>
  )
}
