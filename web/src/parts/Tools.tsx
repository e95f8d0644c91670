// A line of fields and buttons above what they are about.
import { styled } from '@mui/material'
import { own } from './own'

interface Look {
  low?: boolean
  flush?: boolean
  between?: boolean
  /** It stands below what it is about. */
  foot?: boolean
}

export const Tools = styled(
  'div',
  own('low', 'flush', 'between', 'foot'),
)<Look>(({ low, flush, between, foot }) => ({
  padding: `${low ? 5 : 10}px ${flush ? 0 : 18}px`,
  ...(low ? { minHeight: 32 } : {}),
  [foot ? 'borderTop' : 'borderBottom']: '1px solid var(--line)',
  display: 'flex',
  gap: 8,
  alignItems: 'center',
  flexWrap: 'wrap',
  ...(between ? { justifyContent: 'space-between' } : {}),
  ...(low ? { '& .MuiToggleButton-root': { padding: '1px 8px' } } : {}),
  '& > .grow': { flex: 1, minWidth: 0 },
}))
