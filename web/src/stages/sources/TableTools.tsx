// Above the entry table: its search, its views, its filters, and how much fits.
import { MenuItem, OutlinedInput, Select, ToggleButton, ToggleButtonGroup } from '@mui/material'
import type { S } from '../../api/http'
import type { Put } from '../../parts/address'
import { count, plural } from '../../parts/format'
import { TagButton } from '../../parts/TagButton'
import { Text } from '../../parts/Text'
import { TextButton } from '../../parts/TextButton'
import { Tools } from '../../parts/Tools'
import { kindWords, sizes } from './kinds'
import type { Lines } from './lines'

export function TableTools({
  text,
  filter,
  view,
  open,
  total,
  page,
  put,
  onText,
  onDown,
}: {
  text: string
  filter: S['Filter']
  view: string
  open: string
  total: number
  page: Lines['first']['data']
  put: Put
  onText: (text: string) => void
  /** From the search down into the list. */
  onDown: () => void
}) {
  const size = sizes.find(([, , lo, hi]) => (filter.min ?? 0) === lo && (filter.max ?? 0) === hi)?.[0] ?? ''
  const kinds = Object.entries(page?.kinds ?? {}).sort((a, b) => b[1] - a[1])
  return (
    <>
      <Tools>
        <OutlinedInput
          id="search"
          className="grow"
          value={text}
          onChange={(e) => onText(e.target.value)}
          placeholder="Part of a path, or a pattern such as *_c.*"
          inputProps={{ 'aria-label': 'Search entries', spellCheck: false }}
          onKeyDown={(e) => {
            if (e.key === 'ArrowDown') {
              e.preventDefault()
              onDown()
            }
            if (e.key === 'Escape') onText('')
          }}
        />
        <ToggleButtonGroup
          exclusive
          size="small"
          value={view || 'flat'}
          aria-label="View"
          onChange={(_, v: string | null) => v && put({ view: v === 'flat' ? '' : v })}
        >
          <ToggleButton value="flat">Flat</ToggleButton>
          <ToggleButton value="tree">Tree</ToggleButton>
          <ToggleButton value="sets">Sets</ToggleButton>
        </ToggleButtonGroup>
        <Select
          value={size}
          displayEmpty
          inputProps={{ 'aria-label': 'Size' }}
          onChange={(e) => {
            const s = sizes.find((x) => x[0] === e.target.value)!
            put({ min: s[2] ? String(s[2]) : '', max: s[3] ? String(s[3]) : '' })
          }}
        >
          {sizes.map(([k, label]) => (
            <MenuItem key={k} value={k}>
              {label}
            </MenuItem>
          ))}
        </Select>
      </Tools>
      <Tools low>
        {kinds.map(([k, n]) => (
          <TagButton
            key={k}
            tone={filter.kind === k ? 'good' : 'plain'}
            aria-pressed={filter.kind === k}
            onClick={() => k && put({ kind: filter.kind === k ? '' : k })}
          >
            {kindWords[k as S['Kind']][1]} {count(n)}
          </TagButton>
        ))}
        {filter.set && (
          <TagButton tone="good" onClick={() => put({ set: '' })}>
            set {filter.set} ✕
          </TagButton>
        )}
        {view === 'tree' && (
          <TextButton onClick={() => put({ open: open === '*' ? '' : '*' })}>
            {open === '*' ? 'Close all folders' : 'Open all folders'}
          </TextButton>
        )}
        <span className="grow" />
        <Text tone="soft" small data-total={total}>
          {view === 'sets'
            ? `${plural(total, 'set')} among `
            : view === 'tree'
              ? `${plural(total, 'line')} for `
              : `${count(total)} of `}
          {view === 'tree' || view === 'sets'
            ? plural(page?.all ?? 0, 'entry', 'entries')
            : count(page?.all ?? 0)}
          {page && ` · ${Math.max(1, Math.round(page.milliseconds))} ms`}
        </Text>
      </Tools>
    </>
  )
}
