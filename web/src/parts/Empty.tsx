// Stands where nothing is yet, and says what to do.
import { styled } from '@mui/material'
import type { ReactNode } from 'react'

const Frame = styled('div')({
  padding: '28px 24px',
  color: 'var(--soft)',
  fontSize: 14,
  maxWidth: 560,
  '& > b': { color: 'var(--ink)', display: 'block', fontSize: 15, marginBottom: 4 },
  '& ol': { margin: '8px 0 0', paddingLeft: 20, color: 'var(--ink)' },
  '& li': { marginBottom: 4 },
})

export function Empty({ title, children }: { title?: string; children?: ReactNode }) {
  return (
    <Frame>
      {title && <b>{title}</b>}
      {children}
    </Frame>
  )
}
