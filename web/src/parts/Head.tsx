// The head of a pane or of a part of one: what it is, and at its end a sum or
// an action.
import { styled } from '@mui/material'
import type { ReactNode } from 'react'
import { own } from './own'

const Frame = styled(
  'div',
  own('plain', 'ruled'),
)<{
  plain?: boolean
  ruled?: boolean
}>(({ plain, ruled }) => ({
  padding: plain ? '12px 18px 4px' : '12px 18px 10px',
  display: 'flex',
  justifyContent: 'space-between',
  alignItems: 'baseline',
  gap: 8,
  fontSize: 12,
  borderBottom: plain ? 0 : '1px solid var(--line)',
  borderTop: ruled ? '1px solid var(--line)' : 0,
  '& > h2': { minWidth: 0, overflow: 'hidden', textOverflow: 'ellipsis', whiteSpace: 'nowrap' },
}))

/** plain is without a line below, ruled with one above. */
export function Head({
  title,
  end,
  plain,
  ruled,
  children,
}: {
  title?: ReactNode
  end?: ReactNode
  plain?: boolean
  ruled?: boolean
  children?: ReactNode
}) {
  return (
    <Frame plain={plain} ruled={ruled}>
      {title !== undefined && <h2 title={typeof title === 'string' ? title : undefined}>{title}</h2>}
      {children}
      {end}
    </Frame>
  )
}
