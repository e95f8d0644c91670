// The rule by which a step chooses what it acts on, and what it takes here.
import { Autocomplete, Checkbox, FormControlLabel, OutlinedInput, styled } from '@mui/material'
import { createContext, useContext } from 'react'
import { useInventory, usePick } from '../api/scenes'
import { Label } from './Form'
import { count, plural } from './format'
import { useStateOf } from './hooks'
import { Text } from './Text'

/** The scene that rules are about: that of the band below. */
export const PickFrom = createContext<string | undefined>(undefined)

type Rule = Record<string, unknown>

const Frame = styled('fieldset')({
  border: 0,
  borderLeft: '2px solid var(--verdi)',
  margin: '8px 0 4px',
  padding: '0 0 0 10px',
  minWidth: 0,
})

const kinds = ['mesh', 'camera', 'light', 'helper', 'bone']
const fields: [string, string, string][] = [
  ['node', 'Nodes named', 'wall_*'],
  ['under', 'At or under a node named', 'Buildings'],
  ['material', 'Parts with material', 'glass*'],
  ['picture', 'Parts with picture', '*_c'],
  ['kind', 'Kinds of nodes', 'helper'],
]

/** A rule as a form: on and off, its conditions, and what it takes. */
export function PickForm({
  label,
  value,
  onChange,
  disabled,
}: {
  label: string
  value?: Rule
  onChange: (v?: Rule) => void
  disabled?: boolean
}) {
  return (
    <div data-pick>
      <FormControlLabel
        disabled={disabled}
        control={<Checkbox checked={!!value} onChange={(e) => onChange(e.target.checked ? {} : undefined)} />}
        label={label}
      />
      {value && (
        <Frame disabled={disabled}>
          <Conditions value={value} onChange={onChange} />
          <FormControlLabel
            control={
              <Checkbox
                checked={!!value.not}
                onChange={(e) => onChange(without({ ...value, not: e.target.checked ? {} : undefined }))}
              />
            }
            label="But not"
          />
          {!!value.not && (
            <Frame>
              <Conditions value={value.not as Rule} onChange={(not) => onChange({ ...value, not })} />
            </Frame>
          )}
          <Takes where={value} />
        </Frame>
      )}
    </div>
  )
}

/** A rule without the conditions that say nothing. */
const without = (r: Rule): Rule =>
  Object.fromEntries(
    Object.entries(r).filter(([, v]) => v !== undefined && v !== '' && !(Array.isArray(v) && v.length === 0)),
  )

const asList = (v: unknown): string[] =>
  typeof v === 'string' ? [v] : Array.isArray(v) ? (v as string[]) : []

function Conditions({ value, onChange }: { value: Rule; onChange: (v: Rule) => void }) {
  const from = useContext(PickFrom)
  const { data } = useInventory(from)
  const names = (list?: { name: string }[]) => [...new Set(list?.map((x) => x.name))].sort().slice(0, 500)
  const known: Record<string, string[]> = {
    node: names(data?.nodes),
    under: names(data?.nodes.filter((n, i) => data.nodes[i + 1]?.parent === i && n)),
    material: names(data?.materials),
    kind: kinds,
  }
  const set = (k: string, v: unknown) => onChange(without({ ...value, [k]: v }))
  const held = (value.if as string) ?? ''
  const [text, setText] = useStateOf(value.if, held)
  // What is typed is tried alone; what is no condition goes no further than its field.
  const typed = usePick(from, text && text !== held ? { if: text } : undefined)
  const wrong = text !== held && !typed.isPlaceholderData ? typed.data?.wrong : undefined
  const done = async () => {
    if (text === held) return
    if (!text || !(await typed.refetch()).data?.wrong) set('if', text)
  }
  return (
    <>
      {fields.map(([k, label, example]) => (
        <div key={k}>
          <Label>{label}</Label>
          <Autocomplete
            multiple
            freeSolo={k !== 'kind'}
            autoSelect={k !== 'kind'}
            disableClearable
            size="small"
            options={known[k] ?? []}
            value={asList(value[k])}
            onChange={(_, v) => set(k, v)}
            renderInput={(p) => (
              <OutlinedInput
                {...p.slotProps.input}
                fullWidth
                endAdornment={undefined}
                placeholder={asList(value[k]).length ? undefined : example}
                inputProps={{ ...p.slotProps.htmlInput, 'aria-label': label, spellCheck: false }}
              />
            )}
          />
        </div>
      ))}
      <Label>And if</Label>
      <OutlinedInput
        fullWidth
        value={text}
        placeholder="triangles > 500 and not skinned"
        onChange={(e) => setText(e.target.value)}
        error={!!wrong}
        onBlur={() => void done()}
        onKeyDown={(e) => e.key === 'Enter' && void done()}
        inputProps={{ 'aria-label': 'And if', className: 'mono', spellCheck: false }}
      />
      {wrong && (
        <Text as="div" tone="bad" small data-if="wrong">
          {wrong}
        </Text>
      )}
    </>
  )
}

/** How much the rule takes of the band below, or why nothing. */
function Takes({ where }: { where: Rule }) {
  const { data, error } = usePick(useContext(PickFrom), where)
  if (error)
    return (
      <Text as="div" tone="bad" small>
        {String(error.message)}
      </Text>
    )
  if (!data) return null
  if (data.wrong)
    return (
      <Text as="div" tone="bad" small data-takes="wrong">
        {data.wrong}
      </Text>
    )
  if (data.why)
    return (
      <Text as="div" tone="warn" small data-takes="0">
        It takes nothing here: {data.why}.
      </Text>
    )
  return (
    <Text as="div" small data-takes={data.nodes} title={data.first.join(', ')}>
      It takes <b>{plural(data.nodes, 'node')}</b>, {plural(data.parts, 'part')} with{' '}
      {plural(data.triangles, 'triangle')}, {plural(data.materials, 'material')} and{' '}
      {plural(data.pictures, 'picture')}: {data.first.join(', ')}
      {data.nodes > data.first.length &&
        data.first.length > 0 &&
        ` and ${count(data.nodes - data.first.length)} more`}
    </Text>
  )
}
