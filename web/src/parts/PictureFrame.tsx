// The ground that a picture lies on: a chequer where it is clear.
import { styled } from '@mui/material'

export const PictureFrame = styled('div')({
  background: 'repeating-conic-gradient(var(--sunk) 0 25%, var(--paper) 0 50%) 0 0 / 16px 16px',
  borderBottom: '1px solid var(--line)',
  display: 'grid',
  placeItems: 'center',
  minHeight: 200,
  maxHeight: 300,
  overflow: 'auto',
  '& img': { maxWidth: '100%', imageRendering: 'pixelated' },
  '&.zoom': {
    position: 'relative',
    height: 268,
    maxHeight: 'none',
    overflow: 'hidden',
    cursor: 'crosshair',
    touchAction: 'none',
  },
  '&.fill': { flex: 1, height: 'auto', minHeight: 0, borderBottom: '1px solid var(--line)' },
})
