// Bytes read as records, as points and as a mesh.
import { Button, MenuItem, OutlinedInput, Select } from '@mui/material'
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { api, ok, type S } from '../api/client'
import { Fault } from '../parts/bits'
import { count } from '../parts/format'
import { View3D } from '../parts/View3D'
import { Keep } from './Keep'
import { offset } from './Bytes'

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
  const [order, setOrder] = useState('little')
  const [rows, setRows] = useState('64')
  const asked = {
    at,
    columns: spec.trim() || undefined,
    stride: num(stride),
    count: Math.min(num(rows) ?? 64, 4096),
    order: order as 'little',
  }
  const t = useQuery({
    queryKey: ['records', entry, asked],
    placeholderData: keepPreviousData,
    queryFn: () =>
      ok(api.GET('/api/entries/{entry}/trials/records', { params: { path: { entry }, query: asked } })),
  })
  const d = t.data
  // Names for the fields: the first text is the name, what rises is the place, what follows it the size.
  const names: string[] = []
  d?.columns.forEach((c, i) => {
    const free = (n: string) => (names.includes(n) ? `field_${i + 1}` : n)
    names.push(
      c.type.startsWith('ascii')
        ? free('name')
        : c.type === 'u32' && c.looks.startsWith('rising')
          ? free('offset')
          : names[i - 1] === 'offset' && c.type === 'u32'
            ? 'size'
            : `field_${i + 1}`,
    )
  })
  const fields =
    d?.columns.map((c, i) => {
      const ascii = /^ascii(\d+)$/.exec(c.type)
      const many = /^(\w+)x(\d+)$/.exec(c.type)
      return `    - ${names[i]}: ${ascii ? `ascii[${ascii[1]}]` : many ? `${many[1]}[${many[2]}]` : c.type}`
    }) ?? []
  const used = d ? d.columns.reduce((n, c) => n + size(c.type), 0) : 0
  const pieces = d
    ? [
        'records:',
        '  item:',
        ...gaps(d.columns, fields, d.stride),
        '',
        'container:',
        '  each: items',
        '  as: i',
        ...(names.includes('name') ? ['  name: i.name'] : []),
        `  at: ${names.includes('offset') ? 'i.offset' : 0}`,
        `  size: ${names.includes('size') ? 'i.size' : 0}`,
      ].join('\n')
    : ''
  const list = d
    ? [
        `  - items: {type: "item[${length > 1 ? Math.max(1, Math.floor(length / d.stride)) : d.count}]", at: ${at}}`,
      ]
    : []
  return (
    <div className="scroll column">
      <div className="form">
        <label className="f">
          Columns
          <OutlinedInput
            fullWidth
            value={spec}
            onChange={(e) => setSpec(e.target.value)}
            placeholder={d ? `guessed: ${d.spec}` : 'u32 f32x3 ascii8 -4'}
            inputProps={{ 'aria-label': 'Columns', className: 'mono', spellCheck: false }}
          />
        </label>
        <div className="row wrap low">
          <label className="f">
            Record
            <OutlinedInput
              value={stride}
              onChange={(e) => setStride(e.target.value)}
              placeholder={d ? String(d.stride) : 'guessed'}
              inputProps={{ 'aria-label': 'Record size', className: 'mono', size: 6 }}
              endAdornment={<span className="unit">bytes</span>}
            />
          </label>
          <label className="f">
            Rows
            <OutlinedInput
              value={rows}
              onChange={(e) => setRows(e.target.value)}
              inputProps={{ 'aria-label': 'Rows', className: 'mono', size: 4 }}
            />
          </label>
          <label className="f">
            Byte order
            <Select
              value={order}
              onChange={(e) => setOrder(e.target.value)}
              inputProps={{ 'aria-label': 'Byte order' }}
            >
              <MenuItem value="little">little</MenuItem>
              <MenuItem value="big">big</MenuItem>
            </Select>
          </label>
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
        </div>
        {d?.evidence && (
          <div className="soft small" data-evidence>
            {d.stride} bytes a record: {d.evidence}.
          </div>
        )}
        <Fault error={t.error} />
      </div>
      {d && (
        <div className="sheet" data-sheet={d.spec}>
          <table>
            <thead>
              <tr>
                <th>At</th>
                {d.columns.map((c, i) => (
                  <th key={i} title={c.looks}>
                    {c.type}
                    <small>+{c.at}</small>
                  </th>
                ))}
              </tr>
              <tr className="soft small">
                <td />
                {d.columns.map((c, i) => (
                  <td key={i}>
                    {c.looks}
                    {c.low && (
                      <>
                        <br />
                        {c.low} to {c.high}
                      </>
                    )}
                  </td>
                ))}
              </tr>
            </thead>
            <tbody>
              {d.rows.map((r, i) => (
                <tr key={i} onClick={() => onGo(at + i * d.stride, d.stride)}>
                  <td className="soft">{(at + i * d.stride).toString(16)}</td>
                  {r.map((v, k) => (
                    <td key={k}>{v}</td>
                  ))}
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      {d && used > 0 && (
        <div className="body">
          <Keep entry={entry} kind="container" order={order} fields={list} piece={pieces} />
        </div>
      )}
    </div>
  )
}

const widths: Record<string, number> = {
  u8: 1,
  i8: 1,
  u16: 2,
  i16: 2,
  f16: 2,
  u32: 4,
  i32: 4,
  f32: 4,
  u64: 8,
  i64: 8,
  f64: 8,
}
function size(type: string) {
  const a = /^ascii(\d+)$/.exec(type)
  if (a) return Number(a[1])
  const [n, k] = type.split('x')
  return (widths[n] ?? 0) * Number(k ?? 1)
}
function gaps(cols: S['Records']['columns'], lines: string[], stride: number) {
  const out: string[] = []
  let at = 0
  cols.forEach((c, i) => {
    if (c.at > at) out.push(`    - unknown_${at}: u8[${c.at - at}]`)
    out.push(lines[i])
    at = c.at + size(c.type)
  })
  if (stride > at) out.push(`    - unknown_${at}: u8[${stride - at}]`)
  return out
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
    order: 'little',
    indicesAt: '',
    indexCount: '',
    indexFormat: 'u16',
    form: 'list',
    restart: false,
  })
  const set = (x: Partial<typeof p>) => setP({ ...p, ...x })
  const guess = useQuery({
    queryKey: ['meshguess', entry, at, p.order],
    queryFn: () =>
      ok(
        api.GET('/api/entries/{entry}/trials/guess', {
          params: { path: { entry }, query: { at, order: p.order as 'little' } },
        }),
      ),
  })
  const g = guess.data
  const best = g?.strides[0]
  const stride = num(p.stride) ?? best?.stride
  const n = num(p.count) ?? best?.count
  const format = p.stride || !best ? p.format : best.format
  const from = p.stride || !best ? at : best.at
  const indices = num(p.indicesAt, 0),
    indexCount = num(p.indexCount)
  const scale = Number(p.scale)
  const q = new URLSearchParams({
    at: String(from),
    stride: String(stride ?? 0),
    count: String(Math.min(n ?? 0, 4_000_000)),
    format,
    order: p.order,
  })
  if (scale && scale !== 1) q.set('scale', String(scale))
  if (indices !== undefined && p.indicesAt && indexCount) {
    q.set('indicesAt', String(indices))
    q.set('indexCount', String(indexCount))
    q.set('indexFormat', p.indexFormat)
    q.set('form', p.form)
    if (p.restart) q.set('restart', 'true')
  }
  const url = `/api/entries/${entry}/trials/mesh?${q}`
  const ready = !!stride && !!n
  // Asked for before it is shown, so that what is wrong can be said.
  const [shown, setShown] = useState('')
  const [fault, setFault] = useState<unknown>()
  useEffect(() => {
    if (!ready) return
    const t = setTimeout(
      () =>
        void fetch(url)
          .then(async (r) => {
            if (r.ok) {
              setShown(url)
              setFault(undefined)
            } else setFault(new Error(((await r.json()) as S['Error']).message))
          })
          .catch(setFault),
      60,
    )
    return () => clearTimeout(t)
  }, [url, ready])
  const mesh = q.has('indicesAt')
  const text = (
    k: 'stride' | 'count' | 'scale' | 'indicesAt' | 'indexCount',
    label: string,
    hint: string,
    unit?: string,
  ) => (
    <label className="f">
      {label}
      <OutlinedInput
        fullWidth
        value={p[k]}
        placeholder={hint}
        onChange={(e) => set({ [k]: e.target.value })}
        inputProps={{ 'aria-label': label, className: 'mono' }}
        endAdornment={unit && <span className="unit">{unit}</span>}
      />
    </label>
  )
  const pick = (k: 'format' | 'order' | 'indexFormat' | 'form', label: string, list: string[]) => (
    <label className="f">
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
    </label>
  )
  const faces =
    p.form === 'list'
      ? Math.floor((indexCount ?? 0) / 3)
      : p.form === 'quads'
        ? Math.floor((indexCount ?? 0) / 4)
        : (indexCount ?? 0)
  const piece = [
    'model:',
    '  parts:',
    "    each: '[0]'",
    '    mesh: \'"mesh"\'',
    `    vertices: {at: ${from}, count: ${n ?? 0}, stride: ${stride ?? 0}}`,
    '    attributes:',
    `      - {is: position, at: 0, format: ${format}${scale && scale !== 1 ? `, scale: ${scale}` : ''}}`,
    mesh
      ? `    triangles: {at: ${indices}, count: ${faces}, format: ${p.indexFormat}${p.form === 'list' ? '' : `, form: ${p.form}`}${p.restart ? `, restart: ${p.indexFormat === 'u16' ? '0xffff' : p.indexFormat === 'u8' ? '0xff' : '0xffffffff'}` : ''}}`
      : '    triangles: {count: 0}',
  ].join('\n')
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
          <div className="empty">
            {ready ? 'Reading…' : 'No stride stands out from here. Type one, or choose another byte.'}
          </div>
        )}
      </div>
      <div className="form">
        {g && g.strides.length > 0 && (
          <div className="small">
            <span className="soft">Guesses</span>
            <div className="row wrap">
              {g.strides.slice(0, 4).map((s) => (
                <button
                  key={`${s.stride}${s.at}${s.format}`}
                  className={`tag ${s.stride === stride && s.format === format && s.at === from ? 'g' : ''}`}
                  data-guess={`${s.stride} ${s.format}`}
                  title={s.evidence}
                  onClick={() => {
                    set({ stride: String(s.stride), count: String(s.count), format: s.format })
                    if (s.at !== at) onGo(s.at, 1)
                  }}
                >
                  {s.stride} bytes, {s.format}, {Math.round(100 * s.score)}% sure
                </button>
              ))}
            </div>
          </div>
        )}
        <div className="pair">
          {text('stride', 'Stride', best ? String(best.stride) : 'none guessed', 'bytes')}
          {text('count', 'Count', best ? String(best.count) : '0')}
        </div>
        <div className="pair">
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
        </div>
        {pick('order', 'Byte order', ['little', 'big'])}
        {g && g.indices.length > 0 && (
          <div className="small">
            <span className="soft">Rows of indices near it</span>
            <div className="row wrap">
              {g.indices.map((i) => (
                <button
                  key={i.at}
                  className={`tag ${String(i.at) === p.indicesAt ? 'g' : ''}`}
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
                </button>
              ))}
            </div>
          </div>
        )}
        <div className="pair">
          {text('indicesAt', 'Indices at', 'none: points')}
          {text('indexCount', 'Indices', '0')}
        </div>
        <div className="pair">
          {pick('indexFormat', 'Index format', ['u8', 'u16', 'u32'])}
          {pick('form', 'Form', ['list', 'strip', 'fan', 'quads'])}
        </div>
        {(p.form === 'strip' || p.form === 'fan') && (
          <label className="row small">
            <input type="checkbox" checked={p.restart} onChange={(e) => set({ restart: e.target.checked })} />
            the highest index begins a new one
          </label>
        )}
        <Fault error={fault ?? guess.error} />
        <Keep entry={entry} kind="model" order={p.order} piece={piece} />
      </div>
    </div>
  )
}
