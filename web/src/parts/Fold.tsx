// A part of a pane that folds. Its head says the sum, so that what is folded, or
// lies below the edge, is known without opening it. It stays as it was left.
import { ButtonBase, styled } from '@mui/material'
import { useState, type ReactNode } from 'react'

const Frame = styled(ButtonBase)({
  display: 'flex',
  width: '100%',
  gap: 8,
  alignItems: 'baseline',
  justifyContent: 'flex-start',
  padding: '10px 18px 6px',
  fontFamily: 'inherit',
  fontSize: 12,
  textAlign: 'left',
  borderTop: '1px solid var(--thin)',
  position: 'sticky',
  top: 0,
  zIndex: 2,
  background: 'var(--panel)',
  '& > [aria-hidden]': { fontFamily: 'var(--mono)', color: 'var(--soft)', width: 10 },
  '& > h2': { flex: 1 },
  '&.Mui-focusVisible': { outlineOffset: -2 },
})

export function Fold({
  id,
  title,
  sum,
  shut = false,
  children,
}: {
  /** Under which it is remembered. */
  id: string
  title: string
  sum?: ReactNode
  /** Folded until it is opened. */
  shut?: boolean
  children: ReactNode
}) {
  const key = `excavate.fold.${id}`
  const [open, setOpen] = useState(() => (localStorage.getItem(key) ?? (shut ? 'no' : 'yes')) === 'yes')
  const turn = () => {
    localStorage.setItem(key, open ? 'no' : 'yes')
    setOpen(!open)
  }
  return (
    <section aria-label={title}>
      <Frame aria-expanded={open} onClick={turn} data-fold={id}>
        <span aria-hidden>{open ? '–' : '+'}</span>
        <h2>{title}</h2>
        {sum}
      </Frame>
      {open && children}
    </section>
  )
}
