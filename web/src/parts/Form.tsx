// Fields with their labels.
import { styled } from '@mui/material'
import { own } from './own'

interface Look {
  flush?: boolean
  narrow?: boolean
  last?: boolean
}

export const Form = styled(
  'div',
  own('flush', 'narrow', 'last'),
)<Look>(({ flush, narrow, last }) => ({
  padding: `${narrow ? 10 : 6}px ${flush ? 0 : 18}px ${narrow ? 10 : 14}px`,
  borderBottom: flush || last ? 0 : '1px solid var(--line)',
}))

/** A label around its field. */
export const Label = styled('label')({ display: 'block', fontSize: 12, color: 'var(--soft)', marginTop: 8 })

/** Two fields beside each other. */
export const Pair = styled('div')({ display: 'grid', gridTemplateColumns: '1fr 1fr', gap: 10 })
