// A line of a list in a pane, with small print below what it is.
import { styled } from '@mui/material'
import { own } from './own'

export const Item = styled(
  'div',
  own('between', 'ruled'),
)<{
  between?: boolean
  ruled?: boolean
}>(({ between, ruled }) => ({
  padding: '8px 18px',
  borderBottom: '1px solid var(--thin)',
  fontSize: 13,
  ...(between ? { display: 'flex', gap: 8, alignItems: 'center', justifyContent: 'space-between' } : {}),
  ...(ruled ? { borderTop: '1px solid var(--thin)' } : {}),
  '& small': { display: 'block', color: 'var(--soft)', fontSize: 12, overflowWrap: 'anywhere' },
}))
