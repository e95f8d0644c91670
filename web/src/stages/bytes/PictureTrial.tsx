// Bytes as texels.
import { MenuItem, OutlinedInput, Select } from '@mui/material'
import { useState } from 'react'
import { useNamedEntries } from '../../api/entries'
import {
  pictureTrialUrl,
  usePictureTrial,
  useWidths,
  type Order,
  type PictureTrial as PictureQuery,
} from '../../api/trials'
import { Fault } from '../../parts/bits'
import { useProjectId } from '../../parts/project'
import { Keep } from './Keep'
import { Form, Label } from '../../parts/Form'
import { Row } from '../../parts/Row'
import { Text } from '../../parts/Text'
import { TagButton } from '../../parts/TagButton'
import { useObjectUrl } from '../../parts/hooks'
import { offset } from './offset'

const formats = [
  'r5g6b5_pack16',
  'b5g6r5_pack16',
  'r5g5b5a1_pack16',
  'a1r5g5b5_pack16',
  'a1b5g5r5_pack16',
  'r4g4b4a4_pack16',
  'a4r4g4b4_pack16',
  'r8g8b8',
  'b8g8r8',
  'r8g8b8a8',
  'b8g8r8a8',
  'l8',
  'l8a8',
  'l4a4_pack8',
  'i8',
  'indexed8',
  'indexed4',
  'indexed4_low',
  'bc1',
  'bc2',
  'bc3',
  'bc4',
  'bc5',
  'bc6h_ufloat',
  'bc7',
  'r16g16b16a16_sfloat',
]

export function PictureTrial({ entry, at, size }: { entry: number; at: number; size: number }) {
  const [p, setP] = useState({
    width: 64,
    height: 64,
    format: 'r5g6b5_pack16',
    order: 'little' as Order,
    rows: 'top-down' as NonNullable<PictureQuery['rows']>,
    tiling: 'linear',
    tileWidth: 8,
    tileHeight: 8,
    paletteAt: '',
    paletteEntry: 0,
    paletteFormat: 'r8g8b8a8',
  })
  const set = (x: Partial<typeof p>) => setP({ ...p, ...x })
  const guess = useWidths(entry, at, p.format, p.order, size > 0)
  const indexed = p.format.startsWith('indexed')
  const pal = offset(p.paletteAt)
  const asked: PictureQuery = {
    at,
    width: p.width,
    height: p.height,
    format: p.format,
    order: p.order,
    rows: p.rows,
    tiling: p.tiling,
    ...(p.tiling === 'tiles' ? { tileWidth: p.tileWidth, tileHeight: p.tileHeight } : {}),
    ...(indexed && p.paletteAt && pal !== undefined
      ? { paletteAt: pal, paletteFormat: p.paletteFormat, paletteEntry: p.paletteEntry || undefined }
      : {}),
  }
  // A palette in another entry is no part of this one's layout.
  const { paletteEntry, ...kept } = asked
  if (paletteEntry) delete kept.paletteAt
  const shown = usePictureTrial(pictureTrialUrl(entry, asked), size > 0 && p.width > 0 && p.height > 0)
  const src = useObjectUrl(shown.data)
  const num = (k: 'width' | 'height' | 'tileWidth' | 'tileHeight', label: string) => (
    <Texels key={k} label={label} value={p[k]} onChange={(n) => set({ [k]: n })} />
  )
  const pick = (
    k: 'format' | 'order' | 'rows' | 'tiling' | 'paletteFormat',
    label: string,
    list: string[],
  ) => (
    <Label>
      {label}
      <Select
        fullWidth
        value={p[k]}
        onChange={(e) => set({ [k]: e.target.value })}
        inputProps={{ 'aria-label': label }}
      >
        {list.map((x) => (
          <MenuItem key={x} value={x}>
            {x}
          </MenuItem>
        ))}
      </Select>
    </Label>
  )
  return (
    <div className="trial">
      <div className="trialpicture">
        {src && (
          <img
            alt={`The bytes as ${p.width} by ${p.height} texels`}
            data-trial={`${p.width}x${p.height}`}
            src={src}
            style={{ width: Math.min(560, Math.max(192, p.width * (p.width < 160 ? 3 : 1))) }}
          />
        )}
      </div>
      <Form>
        {num('width', 'Width')}
        {guess.data && guess.data.length > 0 && (
          <Row wrap className="small">
            {guess.data.map((g) => (
              <TagButton
                key={g.value}
                tone={g.value === p.width ? 'good' : 'plain'}
                data-guess={g.value}
                title={g.evidence}
                onClick={() => set({ width: g.value })}
              >
                {g.value}, {Math.round(100 * g.score)}% sure
              </TagButton>
            ))}
          </Row>
        )}
        {guess.data?.length === 0 && (
          <Text as="div" tone="soft" small>
            No width stands out from here.
          </Text>
        )}
        {num('height', 'Height')}
        {pick('format', 'Texel format', formats)}
        {pick('order', 'Byte order', ['little', 'big'])}
        {pick('tiling', 'Tiling', ['linear', 'morton', 'zorder-8', 'tiles', 'columns'])}
        {p.tiling === 'tiles' && (
          <>
            {num('tileWidth', 'Tile width')}
            {num('tileHeight', 'Tile height')}
          </>
        )}
        {pick('rows', 'Rows', ['top-down', 'bottom-up'])}
        {indexed && (
          <>
            <Label>
              Palette at
              <OutlinedInput
                fullWidth
                value={p.paletteAt}
                onChange={(e) => set({ paletteAt: e.target.value })}
                placeholder="0x36, or none for greys"
                inputProps={{ 'aria-label': 'Palette at', className: 'mono' }}
              />
            </Label>
            <PaletteEntry value={p.paletteEntry} onChange={(paletteEntry) => set({ paletteEntry })} />
            {pick(
              'paletteFormat',
              'Palette format',
              formats.filter((f) => !f.startsWith('bc') && !f.startsWith('indexed')),
            )}
          </>
        )}
        <Fault error={shown.error ?? guess.error} />
        <Keep entry={entry} trial={{ picture: kept }} />
      </Form>
    </div>
  )
}

/** A number of texels. It counts while it is one, and may be cleared to type another. */
function Texels({ label, value, onChange }: { label: string; value: number; onChange: (n: number) => void }) {
  const [typed, setTyped] = useState({ text: String(value), of: value })
  const fits = (t: string) => {
    const n = /^\d+$/.test(t.trim()) ? Number(t) : 0
    return n >= 1 && n <= 16384 ? n : undefined
  }
  // What is typed stands as long as the value is not changed by something else.
  const text = typed.of === value || fits(typed.text) === value ? typed.text : String(value)
  const setText = (t: string) => setTyped({ text: t, of: value })
  const type = (t: string) => {
    setText(t)
    const n = fits(t)
    if (n !== undefined) onChange(n)
  }
  const wrong = fits(text) === undefined
  return (
    <Label>
      {label}
      <OutlinedInput
        fullWidth
        value={text}
        error={wrong}
        onChange={(e) => type(e.target.value)}
        onBlur={() => wrong && setText(String(value))}
        inputProps={{ 'aria-label': label, inputMode: 'numeric' }}
        endAdornment={<Text tone="soft">texels</Text>}
      />
      {wrong && (
        <Text tone="bad" small block>
          A whole number from 1 to 16,384
        </Text>
      )}
    </Label>
  )
}

/** The entry that a palette lies in: this one, or one that is looked for by name. */
function PaletteEntry({ value, onChange }: { value: number; onChange: (id: number) => void }) {
  const project = useProjectId()
  const [text, setText] = useState('')
  const { data } = useNamedEntries(project, text, 12)
  const rows = data?.entries ?? []
  return (
    <>
      <Label>
        Palette in
        <OutlinedInput
          fullWidth
          value={text}
          onChange={(e) => {
            setText(e.target.value)
            if (!e.target.value) onChange(0)
          }}
          placeholder="this entry; or part of another's name"
          inputProps={{ 'aria-label': 'Palette in' }}
        />
      </Label>
      {text.length > 1 && (
        <Row wrap className="small">
          {rows.map((e) => (
            <TagButton
              key={e.id}
              tone={e.id === value ? 'good' : 'plain'}
              data-palette={e.id}
              title={e.path}
              onClick={() => onChange(e.id)}
            >
              {e.path.split('/').pop()}
            </TagButton>
          ))}
          {rows.length === 0 && <Text tone="soft">none has that in its name</Text>}
        </Row>
      )}
    </>
  )
}
