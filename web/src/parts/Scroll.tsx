// What scrolls within a pane.
import { styled } from '@mui/material'
import { own } from './own'

/** It takes the height that is left. With tabIndex it scrolls by keyboard. */
export const Scroll = styled(
  'div',
  own('column'),
)<{ column?: boolean }>(({ column }) => ({
  overflow: 'auto',
  flex: 1,
  minHeight: 0,
  position: 'relative',
  ...(column ? { display: 'flex', flexDirection: 'column' } : {}),
}))

/** A list of its own height in a dialog. */
export const Rows = styled('div')({ maxHeight: 360, overflow: 'auto', borderTop: '1px solid var(--thin)' })
