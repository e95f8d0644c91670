// Bytes read as records, as points and as a mesh.
import { Button, MenuItem, OutlinedInput, Select } from '@mui/material'
import { useState } from 'react'

import {
  meshTrialUrl,
  useMeshGuess,
  useMeshTrial,
  useRecords,
  type MeshTrial as MeshQuery,
  type Order,
} from '../api/trials'
import { Fault } from '../parts/bits'
import { count } from '../parts/format'
import { View3D } from '../parts/View3D'
import { Keep } from './Keep'
import { offset } from './Bytes'
import { Table, TableHead, TableBody, TableRow, TableCell } from '@mui/material'
import { Body } from '../parts/Body'
import { Empty } from '../parts/Empty'
import { Form, Label, Pair } from '../parts/Form'
import { Row } from '../parts/Row'
import { Scroll } from '../parts/Scroll'
import { Text } from '../parts/Text'
import { TagButton } from '../parts/TagButton'

const num = (s: string, least = 1) => {
  const n = offset(s)
  return n !== undefined && n >= least ? n : undefined
}

export function RecordTrial({
  entry,
  at,
  length,
  onGo,
}: {
  entry: number
  at: number
  length: number
  onGo: (at: number, n: number) => void
}) {
  const [spec, setSpec] = useState('')
  const [stride, setStride] = useState('')
  const [order, setOrder] = useState<Order>('little')
  const [rows, setRows] = useState('64')
  const asked = {
    at,
    columns: spec.trim() || undefined,
    stride: num(stride),
    count: Math.min(num(rows) ?? 64, 4096),
    order,
  }
  const t = useRecords(entry, asked, true)
  const d = t.data
  return (
    <Scroll column>
      <Form>
        <Label>
          Columns
          <OutlinedInput
            fullWidth
            value={spec}
            onChange={(e) => setSpec(e.target.value)}
            placeholder={d ? `guessed: ${d.spec}` : 'u32 f32x3 ascii8 -4'}
            inputProps={{ 'aria-label': 'Columns', className: 'mono', spellCheck: false }}
          />
        </Label>
        <Row wrap low>
          <Label>
            Record
            <OutlinedInput
              value={stride}
              onChange={(e) => setStride(e.target.value)}
              placeholder={d ? String(d.stride) : 'guessed'}
              inputProps={{ 'aria-label': 'Record size', className: 'mono', size: 6 }}
              endAdornment={<Text tone="soft">bytes</Text>}
            />
          </Label>
          <Label>
            Rows
            <OutlinedInput
              value={rows}
              onChange={(e) => setRows(e.target.value)}
              inputProps={{ 'aria-label': 'Rows', className: 'mono', size: 4 }}
            />
          </Label>
          <Label>
            Byte order
            <Select
              value={order}
              onChange={(e) => setOrder(e.target.value)}
              inputProps={{ 'aria-label': 'Byte order' }}
            >
              <MenuItem value="little">little</MenuItem>
              <MenuItem value="big">big</MenuItem>
            </Select>
          </Label>
          {d && !spec && (
            <Button
              onClick={() => {
                setSpec(d.spec)
                setStride(String(d.stride))
              }}
            >
              Take the guess
            </Button>
          )}
        </Row>
        {d?.evidence && (
          <Text as="div" tone="soft" small data-evidence>
            {d.stride} bytes a record: {d.evidence}.
          </Text>
        )}
        <Fault error={t.error} />
      </Form>
      {d && (
        <div className="sheet" data-sheet={d.spec} tabIndex={0} role="region" aria-label="Records">
          <Table size="small">
            <TableHead>
              <TableRow>
                <TableCell>At</TableCell>
                {d.columns.map((c, i) => (
                  <TableCell key={i} title={c.looks}>
                    {c.type}
                    <small>+{c.at}</small>
                  </TableCell>
                ))}
              </TableRow>
              <TableRow className="soft small">
                <TableCell />
                {d.columns.map((c, i) => (
                  <TableCell key={i}>
                    {c.looks}
                    {c.low && (
                      <>
                        <br />
                        {c.low} to {c.high}
                      </>
                    )}
                  </TableCell>
                ))}
              </TableRow>
            </TableHead>
            <TableBody>
              {d.rows.map((r, i) => (
                <TableRow key={i} onClick={() => onGo(at + i * d.stride, d.stride)}>
                  <TableCell className="soft">{(at + i * d.stride).toString(16)}</TableCell>
                  {r.map((v, k) => (
                    <TableCell key={k}>{v}</TableCell>
                  ))}
                </TableRow>
              ))}
            </TableBody>
          </Table>
        </div>
      )}
      {d && d.columns.length > 0 && (
        <Body>
          <Keep entry={entry} trial={{ records: { ...asked, size: length > 1 ? length : undefined } }} />
        </Body>
      )}
    </Scroll>
  )
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
