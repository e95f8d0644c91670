// Running text or buttons in a pane.
import { styled } from '@mui/material'
import { own } from './own'

export const Body = styled(
  'div',
  own('acts'),
)<{ acts?: boolean }>(({ acts }) => ({
  padding: `${acts ? 12 : 4}px 18px 12px`,
  fontSize: 13,
}))
