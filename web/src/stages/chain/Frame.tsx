// The core sample: a band a step, hatched by its family as a section of ground is.
import { styled } from '@mui/material'
import { mono } from '../../theme'

export const ChainFrame = styled('div')({
  height: '100%',
  minWidth: 0,
  '& .middle': { display: 'flex', flexDirection: 'column', minHeight: 0, minWidth: 0 },
  '& .stage': { position: 'relative', minHeight: 0, flex: 1, display: 'grid' },
  // The room of the inventory while that of another band is on its way.
  '& .trayless': { height: 300, background: 'var(--panel)', borderTop: '1px solid var(--line)' },
  '& .drawer': {
    display: 'flex',
    alignItems: 'center',
    gap: 10,
    padding: '4px 14px',
    borderTop: '1px solid var(--line)',
    background: 'var(--panel)',
    flex: 'none',
    '& .grow': { flex: 1 },
  },
  '& .core': {
    padding: '14px 14px 10px',
    display: 'flex',
    flexDirection: 'column',
    overflow: 'auto',
    flex: 1,
    minHeight: 0,
  },
  '& .band': {
    display: 'flex',
    border: '1px solid var(--line)',
    borderBottom: 0,
    background: 'var(--panel)',
    height: 78,
    flex: 'none',
    position: 'relative',
    cursor: 'pointer',
    width: '100%',
    textAlign: 'left',
    font: 'inherit',
    color: 'inherit',
    padding: 0,
    '&:last-of-type': { borderBottom: '1px solid var(--line)' },
    '& .t': {
      width: 70,
      flex: 'none',
      display: 'grid',
      placeItems: 'center',
      background: 'var(--ground)',
      borderRight: '1px solid var(--thin)',
    },
    '& .w': { padding: '7px 11px', minWidth: 0, flex: 1 },
    '& .w b': { fontWeight: 600, display: 'block' },
    '& small': { color: 'var(--soft)', fontSize: 12, display: 'block' },
    '&.on': {
      background: 'var(--verdiT)',
      outline: '2px solid var(--verdi)',
      outlineOffset: -1,
      zIndex: 2,
    },
    '&.cmp': { outline: '2px dashed var(--slate)', outlineOffset: -1, zIndex: 2 },
    '& .k': { position: 'absolute', right: 8, top: 7, font: `600 11px ${mono}`, color: 'var(--verdi)' },
    '&.cmp .k': { color: 'var(--slate)' },
    '&.off .w b': { textDecoration: 'line-through', color: 'var(--soft)' },
    '&.off .t': { opacity: 0.4 },
    '&.thin': { height: 24 },
    '&.thin .w': { padding: '2px 11px', display: 'flex', alignItems: 'center', gap: 8 },
    '&.thin .w b': { fontWeight: 450, fontSize: 12.5 },
    '&.thin .k': { top: 4 },
    '&.over': { borderTop: '3px solid var(--verdi)' },
    '&.trial': {
      borderStyle: 'dashed',
      borderColor: 'var(--verdi)',
      borderBottom: '1px dashed var(--verdi)',
      cursor: 'default',
    },
    '& .lost': { width: 7, height: 7, background: 'var(--ochre)', flex: 'none' },
  },
  '& .thumb': { width: 64, height: 64, display: 'block', objectFit: 'cover' },
  '& .hatch': { width: 16, flex: 'none', alignSelf: 'stretch', borderRight: '1px solid var(--line)' },
  '& .hatch.raw': { background: 'var(--sunk)' },
  '& .hatch.geometry': {
    background: 'radial-gradient(circle,var(--hatch) 1.1px,transparent 1.3px) 0 0/6px 6px',
  },
  '& .hatch.basis': {
    background: 'repeating-linear-gradient(45deg,var(--hatch) 0 1px,transparent 1px 5px)',
  },
  '& .hatch.material': {
    background:
      'repeating-linear-gradient(45deg,var(--hatch) 0 1px,transparent 1px 6px),repeating-linear-gradient(-45deg,var(--hatch) 0 1px,transparent 1px 6px)',
  },
  '& .hatch.rig': {
    background: 'repeating-linear-gradient(0deg,transparent 0 3px,var(--hatch) 3px 4px,transparent 4px 8px)',
  },
  '& .hatch.clean': {
    background: 'repeating-linear-gradient(90deg,var(--hatch) 0 1px,transparent 1px 4px)',
  },
})
