// Things beside each other on a line.
import { styled } from '@mui/material'
import { own } from './own'

interface Look {
  /** Over several lines where there is no room. */
  wrap?: boolean
  /** At both ends of the line. */
  between?: boolean
  /** On one lower edge, as fields with labels stand. */
  low?: boolean
  /** With room above, as a question below others. */
  ask?: boolean
  tabs?: boolean
}

export const Row = styled(
  'div',
  own('wrap', 'between', 'low', 'ask', 'tabs'),
)<Look>(({ wrap, between, low, ask, tabs }) => ({
  display: 'flex',
  gap: 8,
  alignItems: low ? 'flex-end' : 'center',
  ...(wrap ? { flexWrap: 'wrap' } : {}),
  ...(between ? { justifyContent: 'space-between' } : {}),
  ...(ask ? { paddingTop: 6 } : {}),
  ...(tabs ? { paddingTop: 10 } : {}),
}))
