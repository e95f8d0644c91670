// The group that a step belongs to with its neighbours.
import { Autocomplete, OutlinedInput } from '@mui/material'
import { Label } from '../../parts/Form'

export function GroupField({
  value,
  names,
  onChange,
}: {
  value: string
  names: string[]
  onChange: (name: string) => void
}) {
  return (
    <>
      <Label>Group</Label>
      <Autocomplete
        freeSolo
        autoSelect
        size="small"
        options={names}
        value={value}
        onChange={(_, v) => {
          const name = (v ?? '').trim()
          if (name !== value) onChange(name)
        }}
        renderInput={(p) => (
          <OutlinedInput
            {...p.slotProps.input}
            fullWidth
            placeholder="Steps in a row of one group fold together"
            inputProps={{
              ...p.slotProps.htmlInput,
              'aria-label': 'Group',
              maxLength: 100,
              spellCheck: false,
            }}
          />
        )}
      />
    </>
  )
}
