// An action that stands in a text, like a link.
import { ButtonBase, styled } from '@mui/material'

export const TextButton = styled(ButtonBase)({
  font: 'inherit',
  display: 'inline',
  verticalAlign: 'baseline',
  color: 'var(--verdi)',
  fontWeight: 600,
  textAlign: 'left',
  userSelect: 'text',
  overflowWrap: 'anywhere',
  '&:hover': { textDecoration: 'underline' },
  '&.Mui-disabled': { color: 'var(--soft)', pointerEvents: 'none' },
}) as typeof ButtonBase
