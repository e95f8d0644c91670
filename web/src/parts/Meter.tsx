// How far something is.
import { styled } from '@mui/material'

const Frame = styled('span')({
  width: 150,
  height: 6,
  background: 'var(--sunk)',
  display: 'inline-block',
  verticalAlign: 1,
  margin: '0 8px',
  '& > i': { display: 'block', height: 6, background: 'var(--verdi)' },
})

/** part is from 0 to 1. */
export function Meter({ part, label = 'Progress' }: { part: number; label?: string }) {
  const percent = Math.round(100 * Math.max(0, Math.min(1, part)))
  return (
    <Frame
      role="progressbar"
      aria-label={label}
      aria-valuenow={percent}
      aria-valuemin={0}
      aria-valuemax={100}
    >
      <i style={{ width: `${percent}%` }} />
    </Frame>
  )
}
