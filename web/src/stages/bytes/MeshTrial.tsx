// Bytes as vertices and triangles.
import { MenuItem, OutlinedInput, Select } from '@mui/material'
import { useState } from 'react'
import {
  meshTrialUrl,
  useMeshGuess,
  useMeshTrial,
  type MeshTrial as MeshQuery,
  type Order,
} from '../../api/trials'
import { Fault } from '../../parts/bits'
import { count } from '../../parts/format'
import { View3D } from '../../parts/View3D'
import { Keep } from './Keep'
import { offset } from './offset'
import { Empty } from '../../parts/Empty'
import { Form, Label, Pair } from '../../parts/Form'
import { Row } from '../../parts/Row'
import { Text } from '../../parts/Text'
import { TagButton } from '../../parts/TagButton'

export const num = (s: string, least = 1) => {
  const n = offset(s)
  return n !== undefined && n >= least ? n : undefined
}

export function MeshTrial({
  entry,
  at,
  onGo,
}: {
  entry: number
  at: number
  onGo: (at: number, n: number) => void
}) {
  const [p, setP] = useState({
    stride: '',
    count: '',
    format: 'f32x3',
    scale: '1',
    order: 'little' as Order,
    indicesAt: '',
    indexCount: '',
    indexFormat: 'u16' as NonNullable<MeshQuery['indexFormat']>,
    form: 'list' as NonNullable<MeshQuery['form']>,
    restart: false,
  })
  const set = (x: Partial<typeof p>) => setP({ ...p, ...x })
  const guess = useMeshGuess(entry, at, p.order)
  const g = guess.data
  const best = g?.strides[0]
  const stride = num(p.stride) ?? best?.stride
  const n = num(p.count) ?? best?.count
  const format = p.stride || !best ? p.format : best.format
  const from = p.stride || !best ? at : best.at
  const indices = num(p.indicesAt, 0),
    indexCount = num(p.indexCount)
  const scale = Number(p.scale)
  const mesh = indices !== undefined && !!p.indicesAt && !!indexCount
  const asked: MeshQuery = {
    at: from,
    stride: stride ?? 0,
    count: Math.min(n ?? 0, 4_000_000),
    format,
    order: p.order,
    scale: scale && scale !== 1 ? scale : undefined,
    ...(mesh
      ? {
          indicesAt: indices,
          indexCount,
          indexFormat: p.indexFormat,
          form: p.form,
          restart: p.restart || undefined,
        }
      : {}),
  }
  const url = meshTrialUrl(entry, asked)
  const ready = !!stride && !!n
  // Asked for before it is shown, so that what is wrong can be said.
  const { data: shown, error: fault } = useMeshTrial(url, ready)
  const text = (
    k: 'stride' | 'count' | 'scale' | 'indicesAt' | 'indexCount',
    label: string,
    hint: string,
    unit?: string,
  ) => (
    <Label>
      {label}
      <OutlinedInput
        fullWidth
        value={p[k]}
        placeholder={hint}
        onChange={(e) => set({ [k]: e.target.value })}
        inputProps={{ 'aria-label': label, className: 'mono' }}
        endAdornment={unit && <Text tone="soft">{unit}</Text>}
      />
    </Label>
  )
  const pick = (k: 'format' | 'order' | 'indexFormat' | 'form', label: string, list: string[]) => (
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
      <div
        className="trialview"
        data-mesh={mesh ? 'mesh' : 'points'}
        data-shown={shown === url ? 'yes' : 'no'}
      >
        {shown ? (
          <View3D
            className="small"
            tools={false}
            panes={[
              {
                url: shown,
                title: mesh ? 'A mesh' : `${count(n ?? 0)} points`,
                note: `${stride} bytes apart`,
              },
            ]}
          />
        ) : (
          <Empty>
            {ready ? 'Reading…' : 'No stride stands out from here. Type one, or choose another byte.'}
          </Empty>
        )}
      </div>
      <Form>
        {g && g.strides.length > 0 && (
          <Text as="div" small>
            <Text tone="soft">Guesses</Text>
            <Row wrap>
              {g.strides.slice(0, 4).map((s) => (
                <TagButton
                  key={`${s.stride}${s.at}${s.format}`}
                  tone={s.stride === stride && s.format === format && s.at === from ? 'good' : 'plain'}
                  data-guess={`${s.stride} ${s.format}`}
                  title={s.evidence}
                  onClick={() => {
                    set({ stride: String(s.stride), count: String(s.count), format: s.format })
                    if (s.at !== at) onGo(s.at, 1)
                  }}
                >
                  {s.stride} bytes, {s.format}, {Math.round(100 * s.score)}% sure
                </TagButton>
              ))}
            </Row>
          </Text>
        )}
        <Pair>
          {text('stride', 'Stride', best ? String(best.stride) : 'none guessed', 'bytes')}
          {text('count', 'Count', best ? String(best.count) : '0')}
        </Pair>
        <Pair>
          {pick('format', 'Position', [
            'f32x3',
            'f16x3',
            'i16x3',
            'snorm16x3',
            'u8x3',
            'i8x3',
            'a2b10g10r10_snorm_pack32',
          ])}
          {text('scale', 'Scale', '1')}
        </Pair>
        {pick('order', 'Byte order', ['little', 'big'])}
        {g && g.indices.length > 0 && (
          <Text as="div" small>
            <Text tone="soft">Rows of indices near it</Text>
            <Row wrap>
              {g.indices.map((i) => (
                <TagButton
                  key={i.at}
                  tone={String(i.at) === p.indicesAt ? 'good' : 'plain'}
                  data-indices={i.at}
                  title={i.evidence}
                  onClick={() =>
                    set({
                      indicesAt: String(i.at),
                      indexCount: String(i.count),
                      indexFormat: i.format,
                      form: i.form,
                    })
                  }
                >
                  {count(i.count)} × {i.format} at 0x{i.at.toString(16)}
                </TagButton>
              ))}
            </Row>
          </Text>
        )}
        <Pair>
          {text('indicesAt', 'Indices at', 'none: points')}
          {text('indexCount', 'Indices', '0')}
        </Pair>
        <Pair>
          {pick('indexFormat', 'Index format', ['u8', 'u16', 'u32'])}
          {pick('form', 'Form', ['list', 'strip', 'fan', 'quads'])}
        </Pair>
        {(p.form === 'strip' || p.form === 'fan') && (
          <Row as="label" className="small">
            <input type="checkbox" checked={p.restart} onChange={(e) => set({ restart: e.target.checked })} />
            the highest index begins a new one
          </Row>
        )}
        <Fault error={fault ?? guess.error} />
        <Keep entry={entry} trial={{ mesh: asked }} />
      </Form>
    </div>
  )
}
