import { MenuItem, Select, ToggleButton, ToggleButtonGroup } from '@mui/material'
import type { S } from '../api/http'
import { Item } from './Item'
import { Row } from './Row'
import { Text } from './Text'

// Readings are what a file leaves to whoever reads it: few short choices stand
// side by side, others in a list.
export function Readings({
  list,
  onRead,
}: {
  list: S['Reading'][]
  onRead: (all: Record<string, string>) => void
}) {
  const read = (name: string, v: string | null) => {
    if (v !== null) onRead({ ...Object.fromEntries(list.map((x) => [x.name, x.chosen])), [name]: v })
  }
  return (
    <>
      {list.map((r) => (
        <Item key={r.name} data-reading={r.name}>
          <b>{r.name}</b>
          {r.about && (
            <Text tone="soft" small>
              {' '}
              {r.about}
            </Text>
          )}
          <Row>
            {r.choices.length <= 4 && r.choices.join('').length <= 32 ? (
              <ToggleButtonGroup
                exclusive
                size="small"
                value={r.chosen}
                aria-label={r.name}
                onChange={(_, v: string | null) => read(r.name, v)}
              >
                {r.choices.map((c) => (
                  <ToggleButton key={c} value={c}>
                    {c}
                  </ToggleButton>
                ))}
              </ToggleButtonGroup>
            ) : (
              <Select
                fullWidth
                value={r.chosen}
                inputProps={{ 'aria-label': r.name }}
                onChange={(e) => read(r.name, e.target.value)}
              >
                {r.choices.map((c) => (
                  <MenuItem key={c} value={c}>
                    {c}
                  </MenuItem>
                ))}
              </Select>
            )}
          </Row>
        </Item>
      ))}
    </>
  )
}
