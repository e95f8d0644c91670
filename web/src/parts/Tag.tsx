// A word in a frame: a state, a kind, a count.
import { styled } from '@mui/material'
import { own } from './own'

export type TagTone = 'good' | 'warn' | 'bad' | 'plain'

export const tones: Record<TagTone, object> = {
  plain: {},
  warn: { borderColor: 'var(--ochreL)', background: 'var(--ochreT)', color: 'var(--ochre)' },
  bad: { borderColor: 'var(--ironL)', background: 'var(--ironT)', color: 'var(--iron)' },
  good: { borderColor: 'var(--verdiL)', background: 'var(--verdiT)', color: 'var(--verdi)' },
}

export const tagShape = {
  fontSize: 11.5,
  lineHeight: '18px',
  border: '1px solid var(--line)',
  padding: '0 6px',
  color: 'var(--soft)',
  background: 'var(--paper)',
  whiteSpace: 'nowrap',
  display: 'inline-block',
} as const

export const Tag = styled(
  'span',
  own('tone', 'clip'),
)<{
  tone?: TagTone
  clip?: boolean
}>(({ tone = 'plain', clip }) => ({
  ...tagShape,
  ...tones[tone],
  ...(clip ? { overflow: 'hidden', textOverflow: 'ellipsis', minWidth: 0 } : {}),
}))
