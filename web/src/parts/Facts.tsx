// What is known of a thing: a name and a value a line.
import { styled } from '@mui/material'
import { Fragment, type ReactNode } from 'react'
import { own } from './own'

const List = styled(
  'dl',
  own('names'),
)<{ names: number }>(({ names }) => ({
  display: 'grid',
  gridTemplateColumns: `${names}px minmax(0, 1fr)`,
  gap: '5px 10px',
  margin: 0,
  padding: '8px 18px',
  fontSize: 13,
  '& dt': { color: 'var(--soft)' },
  '& dd': { margin: 0, overflowWrap: 'anywhere' },
}))

/** Facts in their order; one without a value is left out. names is the width of the names, px. */
export function Facts({ of, names = 104 }: { of: [string, ReactNode][]; names?: number }) {
  const list = of.filter(([, v]) => v !== undefined && v !== null && v !== false && v !== '')
  if (list.length === 0) return null
  return (
    <List names={names}>
      {list.map(([k, v]) => (
        <Fragment key={k}>
          <dt>{k}</dt>
          <dd data-figure={k}>{v}</dd>
        </Fragment>
      ))}
    </List>
  )
}

/** The same, where names and values stand one after another. */
export const FactGrid = styled(
  'div',
  own('flush', 'names'),
)<{ flush?: boolean; names?: number }>(({ flush, names = 104 }) => ({
  display: 'grid',
  gridTemplateColumns: `${names}px minmax(0, 1fr)`,
  fontSize: 13,
  gap: '5px 10px',
  padding: flush ? '0 0 8px' : '8px 18px',
  '& > span': { color: 'var(--soft)' },
}))
