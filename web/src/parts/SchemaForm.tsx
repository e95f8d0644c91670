// A form drawn from a step's JSON Schema.
import {
  Button,
  Checkbox,
  FormControlLabel,
  InputAdornment,
  MenuItem,
  OutlinedInput,
  Select,
} from '@mui/material'
import { readNumber, rescaled } from './number'
import { Label } from './Form'
import { Mini } from './Mini'
import { AssetField } from './AssetField'
import { PickForm } from './PickForm'
import { Text } from './Text'
import { useStateOf } from './hooks'

export interface Schema {
  type?: string
  title?: string
  description?: string
  enum?: (string | number)[]
  default?: unknown
  properties?: Record<string, Schema>
  items?: Schema
  minItems?: number
  minLength?: number
  /** What a text names, where it is chosen from what there is. */
  chooser?: 'model'
  maxItems?: number
  minimum?: number
  maximum?: number
  exclusiveMinimum?: number
  unit?: string
  shown?: string
  /** What leaving it out is called. */
  empty?: string
}
type Value = Record<string, unknown>

export function SchemaForm({
  schema,
  order,
  value,
  onChange,
  disabled,
}: {
  schema: Schema
  order?: string[]
  value: Value
  onChange: (v: Value) => void
  disabled?: boolean
}) {
  const defaults = (schema.default ?? {}) as Value
  const set = (k: string, v: unknown) => {
    const next = { ...value, [k]: v }
    if (v === undefined) delete next[k]
    onChange(next)
  }
  return (
    <>
      {(order ?? Object.keys(schema.properties ?? {}))
        .map((k) => [k, (schema.properties ?? {})[k]] as const)
        .map(([k, s]) => (
          <Field
            key={k}
            name={k}
            schema={s}
            value={value[k] ?? defaults[k]}
            optional={defaults[k] === undefined}
            onChange={(v) => set(k, v)}
            disabled={disabled}
          />
        ))}
    </>
  )
}

function Field({
  name,
  schema: s,
  value,
  optional,
  monospace,
  onChange,
  disabled,
}: {
  name: string
  schema: Schema
  value: unknown
  optional: boolean
  monospace?: boolean
  onChange: (v: unknown) => void
  disabled?: boolean
}) {
  const label = s.title ?? name
  if (name === 'where')
    return (
      <PickForm label={label} value={value as Value | undefined} onChange={onChange} disabled={disabled} />
    )
  if (s.type === 'boolean')
    return (
      <div>
        <FormControlLabel
          disabled={disabled}
          control={<Checkbox checked={!!value} onChange={(e) => onChange(e.target.checked)} />}
          label={label}
        />
        {s.description && (
          <Text as="div" tone="soft" small>
            {s.description}
          </Text>
        )}
      </div>
    )
  if (s.enum)
    return (
      <>
        <Label id={`f-${name}`}>{label}</Label>
        <Select
          fullWidth
          disabled={disabled}
          value={value ?? ''}
          labelId={`f-${name}`}
          displayEmpty
          onChange={(e) => onChange(e.target.value === '' ? undefined : e.target.value)}
        >
          {s.enum.map((o) => (
            <MenuItem key={o} value={o}>
              {o === '' ? (s.empty ?? 'as declared') : o}
            </MenuItem>
          ))}
        </Select>
        {s.description && (
          <Text as="div" tone="soft" small>
            {s.description}
          </Text>
        )}
      </>
    )
  if (s.type === 'number' || s.type === 'integer')
    return (
      <NumberField
        label={label}
        schema={s}
        value={value as number | undefined}
        optional={optional}
        onChange={onChange}
        disabled={disabled}
      />
    )
  if (s.type === 'array' && s.items?.type === 'number')
    return (
      <NumbersField
        label={label}
        schema={s}
        value={value as number[] | undefined}
        onChange={onChange}
        disabled={disabled}
      />
    )
  if (s.type === 'array' && s.items?.type === 'string')
    return (
      <TextField
        label={label}
        value={((value as string[]) ?? []).join(', ')}
        onChange={(t) => {
          const list = t
            .split(/[,\n]/)
            .map((x) => x.trim())
            .filter(Boolean)
          onChange(list.length > 0 ? list : undefined)
        }}
        disabled={disabled}
        monospace={monospace}
        help={s.description ?? (s.items.enum ? `Of ${s.items.enum.join(', ')}` : 'Set apart by commas')}
      />
    )
  if (s.type === 'array' && s.items?.type === 'object')
    return (
      <Rows
        label={label}
        schema={s}
        value={(value as Value[]) ?? []}
        onChange={onChange}
        disabled={disabled}
      />
    )
  if (s.type === 'object') {
    const v = value as Value | undefined
    return (
      <div>
        <FormControlLabel
          disabled={disabled}
          control={<Checkbox checked={!!v} onChange={(e) => onChange(e.target.checked ? {} : undefined)} />}
          label={label}
        />
        {v && (
          <div style={{ paddingLeft: 14 }}>
            <SchemaForm schema={s} value={v} onChange={onChange} disabled={disabled} />
          </div>
        )}
      </div>
    )
  }
  if (s.chooser === 'model')
    return (
      <AssetField
        label={label}
        value={(value as string) ?? ''}
        onChange={onChange}
        disabled={disabled}
        help={s.description}
      />
    )
  return (
    <TextField
      label={label}
      value={(value as string) ?? ''}
      onChange={onChange}
      disabled={disabled}
      monospace={monospace}
      help={s.description}
    />
  )
}

/** Text is passed on when the field is left or Enter is pressed: each change is one edit. */
function TextField({
  label,
  value,
  onChange,
  disabled,
  help,
  monospace,
}: {
  label: string
  value: string
  onChange: (v: string) => void
  disabled?: boolean
  help?: string
  monospace?: boolean
}) {
  const [text, setText] = useStateOf(value, value)
  const done = () => {
    if (text !== value) onChange(text)
  }
  return (
    <>
      <Label>{label}</Label>
      <OutlinedInput
        fullWidth
        value={text}
        disabled={disabled}
        onChange={(e) => setText(e.target.value)}
        onBlur={done}
        onKeyDown={(e) => e.key === 'Enter' && done()}
        inputProps={{ 'aria-label': label, className: monospace ? 'mono' : undefined, spellCheck: false }}
      />
      {help && (
        <Text as="div" tone="soft" small>
          {help}
        </Text>
      )}
    </>
  )
}

/** Metres in each unit that a length may be shown in. */
const lengths: Record<string, number> = { mm: 1000, cm: 100, m: 1 }

/** A number, typed in the one unit that the schema names for this field. */
function NumberField({
  label,
  schema: s,
  value,
  optional,
  onChange,
  disabled,
}: {
  label: string
  schema: Schema
  value?: number
  optional: boolean
  onChange: (v?: number) => void
  disabled?: boolean
}) {
  const unit = s.shown ?? s.unit,
    factor = s.shown ? lengths[s.shown] : 1
  const shown = value === undefined ? '' : String(rescaled(value, factor))
  const [text, setText] = useStateOf(shown, shown)
  const typed = readNumber(text),
    n = typed === undefined ? undefined : rescaled(typed, 1 / factor)
  // What has no default may be left out.
  const out = text.trim() === '' && optional
  const wrong =
    !out &&
    (n === undefined ||
      (s.type === 'integer' && !Number.isSafeInteger(n)) ||
      (s.minimum !== undefined && n < s.minimum) ||
      (s.maximum !== undefined && n > s.maximum) ||
      (s.exclusiveMinimum !== undefined && n <= s.exclusiveMinimum))
  const done = () => {
    if (!wrong && text !== shown) onChange(out ? undefined : n)
  }
  return (
    <>
      <Label>{label}</Label>
      <OutlinedInput
        fullWidth
        value={text}
        error={wrong}
        disabled={disabled}
        onChange={(e) => setText(e.target.value)}
        onBlur={done}
        onKeyDown={(e) => e.key === 'Enter' && done()}
        inputProps={{ 'aria-label': label, inputMode: 'decimal' }}
        endAdornment={
          unit && (
            <InputAdornment position="end">
              <Text tone="soft">{unit}</Text>
            </InputAdornment>
          )
        }
      />
      {wrong && (
        <Text as="div" tone="bad" small>
          {range(s, factor, unit)}
        </Text>
      )}
      {s.description && (
        <Text as="div" tone="soft" small>
          {s.description}
        </Text>
      )}
    </>
  )
}

/** A few numbers in one line, such as a point; left out if it is empty. */
function NumbersField({
  label,
  schema: s,
  value,
  onChange,
  disabled,
}: {
  label: string
  schema: Schema
  value?: number[]
  onChange: (v?: number[]) => void
  disabled?: boolean
}) {
  const shown = value?.join(' ') ?? ''
  const [text, setText] = useStateOf(shown, shown)
  const typed = text.trim().split(/\s+/).filter(Boolean).map(readNumber)
  const many = s.minItems ?? 1
  const wrong = typed.length > 0 && (typed.length !== many || typed.includes(undefined))
  const done = () => {
    if (!wrong && text !== shown) onChange(typed.length ? (typed as number[]) : undefined)
  }
  return (
    <>
      <Label>{label}</Label>
      <OutlinedInput
        fullWidth
        value={text}
        error={wrong}
        disabled={disabled}
        onChange={(e) => setText(e.target.value)}
        onBlur={done}
        onKeyDown={(e) => e.key === 'Enter' && done()}
        inputProps={{ 'aria-label': label }}
        endAdornment={
          s.unit && (
            <InputAdornment position="end">
              <Text tone="soft">{s.unit}</Text>
            </InputAdornment>
          )
        }
      />
      <Text as="div" tone={wrong ? 'bad' : 'soft'} small>
        {wrong ? `${many} numbers with spaces between them` : s.description}
      </Text>
    </>
  )
}

function range(s: Schema, factor: number, unit = ''): string {
  const p: string[] = []
  const say = (words: string, bound?: number) => {
    if (bound !== undefined) p.push(`${words} ${rescaled(bound, factor)}${unit && ` ${unit}`}`)
  }
  say('at least', s.minimum)
  say('more than', s.exclusiveMinimum)
  say('at most', s.maximum)
  return `A ${s.type === 'integer' ? 'whole ' : ''}number${p.length ? ', ' : ''}${p.join(' and ')}`
}

function Rows({
  label,
  schema: s,
  value,
  onChange,
  disabled,
}: {
  label: string
  schema: Schema
  value: Value[]
  onChange: (v: Value[]) => void
  disabled?: boolean
}) {
  // Rows count once their fields that must be filled are, so rows under way are kept here.
  const [rows, setRows] = useStateOf(JSON.stringify(value), value)
  const fields = Object.entries(s.items?.properties ?? {})
  const must = fields.filter(([, f], i) => i === 0 || (f.minLength ?? 0) > 0).map(([k]) => k)
  const fresh = Object.fromEntries(
    fields.flatMap(([k, f]) => (f.enum ? [[k, f.enum[0]]] : f.type === 'string' ? [[k, '']] : [])),
  )
  const put = (next: Value[]) => {
    setRows(next)
    if (next.every((r) => must.every((k) => r[k]))) onChange(next)
  }
  return (
    <div>
      <Label>{label}</Label>
      {s.description && (
        <Text as="div" tone="soft" small>
          {s.description}
        </Text>
      )}
      {rows.map((r, i) => (
        <div key={i} style={{ borderLeft: '2px solid var(--line)', paddingLeft: 8, marginTop: 6 }}>
          {fields.map(([k, f]) => (
            <Field
              key={k}
              name={k}
              schema={f}
              value={r[k]}
              optional
              monospace
              disabled={disabled}
              onChange={(v) =>
                put(
                  rows.map((x, j) =>
                    j === i
                      ? Object.fromEntries(
                          Object.entries({ ...x, [k]: v }).filter(([, y]) => y !== undefined),
                        )
                      : x,
                  ),
                )
              }
            />
          ))}
          {!disabled && (
            <Mini
              style={{ marginTop: 4 }}
              onClick={() => {
                const next = rows.filter((_, j) => j !== i)
                setRows(next)
                onChange(next)
              }}
            >
              Remove
            </Mini>
          )}
        </div>
      ))}
      {!disabled && (
        <Button sx={{ mt: 1 }} onClick={() => setRows([...rows, fresh])}>
          Add a row
        </Button>
      )}
    </div>
  )
}
