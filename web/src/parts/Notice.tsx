// Something that the porter should know before going on.
import { styled } from '@mui/material'

export const Notice = styled('div')({
  margin: '10px 18px',
  padding: '8px 12px',
  border: '1px solid var(--ochreL)',
  background: 'var(--ochreT)',
  color: 'var(--ochre)',
  fontSize: 13,
})
