// What the bytes may be read as.
import { ToggleButton, ToggleButtonGroup } from '@mui/material'
import { useAddress } from '../../parts/address'
import { NotesPane } from './Notes'
import { MeshTrial } from './MeshTrial'
import { RecordTrial } from './RecordTrial'
import { Pane } from '../../parts/Pane'
import { Tools } from '../../parts/Tools'
import { PictureTrial } from './PictureTrial'
import { PackedTrial, TextTrial } from './TextTrial'

export function Trials({
  entry,
  path,
  at,
  length,
  size,
  onGo,
}: {
  entry: number
  path?: string
  at: number
  length: number
  size: number
  onGo: (at: number, n: number) => void
}) {
  const [params, put] = useAddress()
  const tab = params.get('as') ?? 'picture'
  const setTab = (v: string) => put({ as: v })
  return (
    <Pane column>
      <Tools>
        <ToggleButtonGroup
          exclusive
          size="small"
          value={tab}
          aria-label="Read as"
          onChange={(_, v: string | null) => v && setTab(v)}
        >
          <ToggleButton value="picture">Picture</ToggleButton>
          <ToggleButton value="mesh">Points, mesh</ToggleButton>
          <ToggleButton value="records">Records</ToggleButton>
          <ToggleButton value="packed">Packed</ToggleButton>
          <ToggleButton value="text">Text</ToggleButton>
          <ToggleButton value="notes">Notes</ToggleButton>
        </ToggleButtonGroup>
      </Tools>
      {size === 0 ? null : tab === 'picture' ? (
        <PictureTrial entry={entry} at={at} size={size} />
      ) : tab === 'mesh' ? (
        <MeshTrial entry={entry} at={at} onGo={onGo} />
      ) : tab === 'records' ? (
        <RecordTrial entry={entry} at={at} length={length} onGo={onGo} />
      ) : tab === 'packed' ? (
        <PackedTrial entry={entry} at={at} length={length} />
      ) : tab === 'notes' ? (
        <NotesPane entry={entry} path={path} at={at} length={length} onGo={onGo} />
      ) : (
        <TextTrial entry={entry} at={at} length={length} size={size} />
      )}
    </Pane>
  )
}
