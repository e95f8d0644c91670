// What the target would say: a severity, a title with its place and reason, a mend.
import { styled } from '@mui/material'

export const Finding = styled('div')({
  display: 'flex',
  gap: 12,
  padding: '11px 18px',
  borderBottom: '1px solid var(--thin)',
  alignItems: 'flex-start',
  background: 'var(--panel)',
  '& .tg': { width: 56, flex: 'none', paddingTop: 1 },
  '& b': { fontWeight: 600 },
  '& small': { display: 'block', color: 'var(--soft)', fontSize: 12.5, overflowWrap: 'anywhere' },
  '& p': { margin: '4px 0 0', fontSize: 13, color: 'var(--soft)' },
})
