// What the bytes at the cursor are as numbers.
import { useState } from 'react'
import { useBytes } from '../../api/entries'
import { count } from '../../parts/format'
import { Row } from '../../parts/Row'
import { Text } from '../../parts/Text'
import { TextButton } from '../../parts/TextButton'
import { hex } from './offset'

function half(h: number) {
  const s = h >> 15 ? -1 : 1,
    e = (h >> 10) & 31,
    f = h & 1023
  return e === 0
    ? (s * f) / 2 ** 24
    : e === 31
      ? f
        ? NaN
        : s * Infinity
      : s * 2 ** (e - 15) * (1 + f / 1024)
}

export function Values({
  entry,
  at,
  length,
  size,
  onFollow,
}: {
  entry: number
  at: number
  length: number
  size: number
  onFollow: (n: number) => void
}) {
  const [little, setLittle] = useState(true)
  const { byte } = useBytes(entry, at, 8, size)
  const raw = new Uint8Array(8)
  let have = 0
  for (let i = 0; i < 8; i++) {
    const b = byte(at + i)
    if (b === undefined) break
    raw[i] = b
    have++
  }
  const v = new DataView(raw.buffer)
  const num = (x: number) =>
    Number.isInteger(x)
      ? count(x)
      : Math.abs(x) >= 1e6 || (x !== 0 && Math.abs(x) < 1e-4)
        ? x.toExponential(4)
        : x.toPrecision(6)
  const list: [string, number, string][] = [
    ['u8', 1, num(v.getUint8(0))],
    ['i8', 1, num(v.getInt8(0))],
    ['u16', 2, num(v.getUint16(0, little))],
    ['i16', 2, num(v.getInt16(0, little))],
    ['u32', 4, num(v.getUint32(0, little))],
    ['i32', 4, num(v.getInt32(0, little))],
    ['u64', 8, v.getBigUint64(0, little).toLocaleString('en-GB')],
    ['fixed 1/256', 2, num(v.getInt16(0, little) / 256)],
    ['f16', 2, num(half(v.getUint16(0, little)))],
    ['f32', 4, num(v.getFloat32(0, little))],
    ['f64', 8, num(v.getFloat64(0, little))],
  ]
  const pointer = v.getUint32(0, little)
  const shapes = [2, 3, 4, 6, 8, 12, 16, 20, 24, 28, 32, 36, 40, 48, 64]
    .filter((s) => length > s && length % s === 0)
    .map((s) => `${count(length / s)} × ${s}`)
  return (
    <div className="values">
      <Row between>
        <Text small>
          <Text as="b" mono>
            0x{hex(at)}
          </Text>{' '}
          <Text tone="soft">{count(at)}</Text> ·{' '}
          {length === 1
            ? '1 byte'
            : `${count(length)} bytes chosen${shapes.length ? ` = ${shapes.slice(0, 4).join(' = ')}` : ''}`}
        </Text>
        <Row as="span">
          <TextButton
            data-follow
            disabled={have < 4 || pointer >= size}
            onClick={() => onFollow(pointer)}
            title="Go where the u32 here points"
          >
            Follow u32
          </TextButton>
          <TextButton onClick={() => setLittle(!little)}>{little ? 'little' : 'big'} end · swap</TextButton>
        </Row>
      </Row>
      <div className="valuegrid">
        {list.map(([k, need, x]) => (
          <span key={k} className={k === 'u64' || k === 'f64' ? 'long' : undefined}>
            <Text tone="soft">{k}</Text> <span data-value={k}>{have >= need ? x : '–'}</span>
          </span>
        ))}
      </div>
    </div>
  )
}
