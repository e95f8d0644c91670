// A pane: a part of a page that scrolls by itself, or holds parts that do.
import { styled } from '@mui/material'
import { own } from './own'

/** column is a pane whose parts share its height; ground is a pane of paper for cards. */
export const Pane = styled(
  'section',
  own('column', 'ground'),
)<{
  column?: boolean
  ground?: boolean
}>(({ column, ground }) => ({
  background: ground ? 'var(--paper)' : 'var(--panel)',
  overflow: column ? 'hidden' : 'auto',
  minHeight: 0,
  minWidth: 0,
  ...(column ? { display: 'flex', flexDirection: 'column' } : {}),
}))
