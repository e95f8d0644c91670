// A tag that is a choice.
import { ButtonBase, styled } from '@mui/material'
import { tagShape, tones, type TagTone } from './Tag'
import { own } from './own'

export const TagButton = styled(
  ButtonBase,
  own('tone'),
)<{ tone?: TagTone }>(({ tone = 'plain' }) => ({
  ...tagShape,
  fontFamily: 'inherit',
  '&:hover': { borderColor: 'var(--ink)' },
  ...tones[tone],
}))
