// A few words in a tone: good, a warning, bad, or soft beside what matters more.
import { styled } from '@mui/material'
import { own } from './own'

export type ToneName = 'good' | 'warn' | 'bad' | 'soft'

const colour: Record<ToneName, string> = {
  good: 'var(--verdi)',
  warn: 'var(--ochre)',
  bad: 'var(--iron)',
  soft: 'var(--soft)',
}

export const Tone = styled(
  'span',
  own('is'),
)<{ is: ToneName }>(({ is }) => ({
  '&&': { display: 'inline', color: colour[is], fontWeight: is === 'soft' ? 'inherit' : 600 },
}))
