// What chooses the finds that are shown: words, a state, bounds of a figure,
// and their order.
import { MenuItem, OutlinedInput, Select, styled } from '@mui/material'
import { Tone } from '../../parts/Tone'
import { figures, sorts, states, unread, type Filtered } from './filter'
import { own } from '../../parts/own'

const Frame = styled(
  'div',
  own('narrow'),
)<{ narrow?: boolean }>(({ narrow }) => ({
  display: narrow ? 'grid' : 'flex',
  flexWrap: 'wrap',
  gridTemplateColumns: '1fr 1fr',
  gap: 6,
  alignItems: 'center',
  padding: narrow ? '10px 14px' : 0,
  borderBottom: narrow ? '1px solid var(--line)' : 0,
  '& > .wide': narrow ? { gridColumn: '1 / -1' } : { width: 210 },
  '& > .bound': narrow ? {} : { width: 92 },
}))

export function FilterBar({ f, narrow }: { f: Filtered; narrow?: boolean }) {
  const pick = (
    label: string,
    value: string,
    list: [string, string, unknown][],
    set: (v: string) => void,
  ) => (
    <Select
      displayEmpty
      value={value}
      className={label === 'Bounded figure' ? 'wide' : ''}
      inputProps={{ 'aria-label': label }}
      onChange={(e) => set(e.target.value)}
    >
      {list.map(([k, text]) => (
        <MenuItem key={k} value={k}>
          {text}
        </MenuItem>
      ))}
    </Select>
  )
  const bound = (label: string, value: string, hint: string, set: (v: string) => void) => (
    <OutlinedInput
      className="bound"
      value={value}
      placeholder={hint}
      error={unread(value)}
      inputProps={{ 'aria-label': label, inputMode: 'decimal' }}
      onChange={(e) => set(e.target.value)}
    />
  )
  return (
    <Frame narrow={narrow} role="search" aria-label="Which finds">
      <OutlinedInput
        className="wide"
        value={f.words}
        onChange={(e) => f.setWords(e.target.value)}
        placeholder="Part of a name"
        inputProps={{ 'aria-label': 'Filter finds' }}
      />
      {pick('Show', f.only, states, (only) => f.put({ only }))}
      {pick('Sort finds', f.by, sorts, (by) => f.put({ by }))}
      {pick('Bounded figure', f.of, figures, (of) => f.put({ of, from: '', to: '' }))}
      {f.of && (
        <>
          {bound('At least', f.from, 'from', (from) => f.put({ from }))}
          {bound('At most', f.to, 'to', (to) => f.put({ to }))}
          {(unread(f.from) || unread(f.to)) && (
            <span className="wide">
              <Tone is="bad">{unread(f.from) ? f.from : f.to} is no number, so it bounds nothing.</Tone>
            </span>
          )}
        </>
      )}
    </Frame>
  )
}
