// Another asset that a step takes: a find of the project, what another chain
// ends with, or the path of any entry.
import { Autocomplete, OutlinedInput } from '@mui/material'
import { useParams } from 'react-router'
import { useChains } from '../api/chains'
import { useGallery } from '../api/finds'
import { Label } from './Form'
import { Text } from './Text'

export function AssetField({
  label,
  value,
  onChange,
  disabled,
  help,
}: {
  label: string
  value: string
  onChange: (v?: string) => void
  disabled?: boolean
  help?: string
}) {
  const project = Number(useParams().project ?? 0)
  const { data } = useGallery(project)
  const { data: chains } = useChains(project)
  const paths = [...new Set((data ?? []).map((f) => f.path))].sort()
  const ends = [...new Set((chains ?? []).map((c) => `chain: ${c.name}`))].sort()
  return (
    <>
      <Label>{label}</Label>
      <Autocomplete
        freeSolo
        autoSelect
        disableClearable
        size="small"
        disabled={disabled}
        options={[...paths, ...ends]}
        value={value}
        onChange={(_, v) => v !== value && onChange(v || undefined)}
        renderInput={(p) => (
          <OutlinedInput
            {...p.slotProps.input}
            fullWidth
            endAdornment={undefined}
            placeholder="boats/punt.glb"
            inputProps={{ ...p.slotProps.htmlInput, 'aria-label': label, spellCheck: false }}
          />
        )}
      />
      {help && (
        <Text as="div" tone="soft" small>
          {help}
        </Text>
      )}
    </>
  )
}
