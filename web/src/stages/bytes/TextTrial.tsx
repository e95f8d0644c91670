// Bytes unpacked, and as text.
import { useBytes } from '../../api/entries'
import { usePacked } from '../../api/trials'
import { Fault } from '../../parts/bits'
import { bytes, count } from '../../parts/format'
import { Code } from '../../parts/Code'
import { Empty } from '../../parts/Empty'
import { Item } from '../../parts/Item'
import { Row } from '../../parts/Row'
import { Scroll } from '../../parts/Scroll'
import { Text } from '../../parts/Text'

export function PackedTrial({ entry, at, length }: { entry: number; at: number; length: number }) {
  const { data, error, isFetching } = usePacked(entry, at, length > 1 ? length : undefined)
  const good = data?.filter((u) => u.bytes > 0) ?? []
  return (
    <Scroll>
      <Fault error={error} />
      {isFetching && !data && <Empty>Every packing method is tried…</Empty>}
      {data && good.length === 0 && (
        <Empty>
          <b>Nothing unpacks from here</b>No usual packing method gives a byte from offset {count(at)}. Try
          the byte after a header.
        </Empty>
      )}
      {good.map((u) => (
        <Item key={u.codec} data-codec={u.codec}>
          <Row between>
            <b>{u.codec}</b>
            <Text tone="soft" small>
              {u.bytes >= 1 << 20 ? 'over ' : ''}
              {bytes(u.bytes)} that look like {u.class}
            </Text>
          </Row>
          <Text as="small" mono>
            {u.text}
          </Text>
          {u.stopped && (
            <small className={u.stopped.includes('beyond') ? '' : 'warn'}>
              {u.stopped.includes('beyond') ? 'and goes on' : u.stopped}
            </small>
          )}
        </Item>
      ))}
      {data && good.length > 0 && (
        <Item className="soft small">
          Nothing from here with{' '}
          {data
            .filter((u) => u.bytes === 0)
            .map((u) => u.codec)
            .join(', ') || 'none of the others'}
          .
        </Item>
      )}
    </Scroll>
  )
}

const encodings: [string, string][] = [
  ['UTF-8', 'utf-8'],
  ['UTF-16 LE', 'utf-16le'],
  ['UTF-16 BE', 'utf-16be'],
  ['Shift-JIS', 'shift_jis'],
  ['Windows-1252', 'windows-1252'],
]

export function TextTrial({
  entry,
  at,
  length,
  size,
}: {
  entry: number
  at: number
  length: number
  size: number
}) {
  const n = Math.min(length > 1 ? length : 400, 2000, size - at)
  const { byte } = useBytes(entry, at, n, size)
  const raw = new Uint8Array(n)
  for (let i = 0; i < n; i++) raw[i] = byte(at + i) ?? 0
  return (
    <Scroll>
      {encodings.map(([name, label]) => (
        <Item key={name}>
          <b>{name}</b>
          <Code short>
            {new TextDecoder(label)
              .decode(raw)
              .replace(/\p{Cc}/gu, (c) => (c === '\t' || c === '\n' ? c : '·'))}
          </Code>
        </Item>
      ))}
    </Scroll>
  )
}
