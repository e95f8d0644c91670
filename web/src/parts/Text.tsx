// A few words in another tone, size or type than those round them.
import { styled } from '@mui/material'
import type { ToneName } from './Tone'
import { own } from './own'

const colour: Record<ToneName, string> = {
  good: 'var(--verdi)',
  warn: 'var(--ochre)',
  bad: 'var(--iron)',
  soft: 'var(--soft)',
}

interface Look {
  tone?: ToneName
  small?: boolean
  mono?: boolean
  /** On one line, cut off where there is no room; give the whole in a title. */
  clip?: boolean
  block?: boolean
  /** Long words break anywhere; lines that the text has stay. */
  wrap?: boolean
}

export const Text = styled(
  'span',
  own('tone', 'small', 'mono', 'clip', 'block', 'wrap'),
)<Look>(({ tone, small, mono, clip, block, wrap }) => ({
  '&&': {
    ...(tone ? { color: colour[tone] } : {}),
    ...(tone && tone !== 'soft' ? { fontWeight: 600 } : {}),
    ...(small ? { fontSize: 12 } : {}),
    ...(mono ? { fontFamily: 'var(--mono)', fontSize: 12.5 } : {}),
  },
  ...(block ? { display: 'block' } : {}),
  ...(wrap ? { overflowWrap: 'anywhere', whiteSpace: 'pre-line' } : {}),
  ...(clip ? { overflow: 'hidden', textOverflow: 'ellipsis', whiteSpace: 'nowrap', minWidth: 0 } : {}),
}))
