// Text as a file has it.
import { styled } from '@mui/material'
import { own } from './own'

interface Look {
  /** Scrolls where it is long. */
  short?: boolean
  /** Bytes: its lines are never broken. */
  hex?: boolean
}

export const Code = styled(
  'pre',
  own('short', 'hex'),
)<Look>(({ short, hex }) => ({
  margin: 0,
  padding: '10px 18px',
  font: '12px/1.55 var(--mono)',
  overflow: 'auto',
  whiteSpace: hex ? 'pre' : 'pre-wrap',
  overflowWrap: 'anywhere',
  ...(hex ? { fontSize: 10.5 } : {}),
  ...(short ? { maxHeight: 280 } : {}),
}))
