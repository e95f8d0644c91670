// The whole of an entry at one glance: what its blocks look like.
import { useState } from 'react'
import { useStrip } from '../../api/entries'
import type { S } from '../../api/http'
import { bytes, count } from '../../parts/format'
import { Row } from '../../parts/Row'
import { Text } from '../../parts/Text'
import { TextButton } from '../../parts/TextButton'

export function Strip({
  strip,
  at,
  entry,
  onGo,
  onClose,
  onDescribe,
}: {
  strip?: S['Strip']
  at: number
  entry: number
  onGo: (n: number) => void
  onClose: () => void
  onDescribe: () => void
}) {
  const [near, setNear] = useState(false)
  const span = Math.max(4096, Math.ceil((strip?.size ?? 0) / 32))
  const from = Math.max(0, Math.floor(at / span) * span)
  const close = useStrip(entry, from, span, near && !!strip)
  const s = near ? (close.data ?? strip) : strip
  // Neighbours of one class are one band.
  const bands: (S['Strip']['cells'][number] & { end: number })[] = []
  for (const c of s?.cells ?? []) {
    const b = bands[bands.length - 1]
    if (b && b.class === c.class && b.stride === c.stride) b.end = c.at + c.size
    else bands.push({ ...c, end: c.at + c.size })
  }
  const total = Math.max(1, (s?.to ?? 1) - (s?.from ?? 0))
  return (
    <div className="stripe">
      <div className="stripband" role="group" aria-label="What the file looks like">
        {bands.map((b) => (
          <button
            key={b.at}
            className={`look is-${b.class}`}
            data-class={b.class}
            style={{ width: `${(100 * (b.end - b.at)) / total}%` }}
            title={`${b.class}${b.stride ? `, stride ${b.stride}` : ''}: ${count(b.at)} to ${count(b.end)}. ${b.evidence}`}
            aria-label={`${b.class} at ${b.at}`}
            onClick={() => onGo(b.at)}
          />
        ))}
        {s && at >= s.from && at < s.to && <i style={{ left: `${(100 * (at - s.from)) / total}%` }} />}
      </div>
      <Row wrap>
        <Text as="b" clip>
          {strip?.path}
        </Text>
        <Text tone="soft" small>
          {strip && `${count(strip.size)} bytes`}
        </Text>
        {strip?.classes
          .filter((c) => strip.cells.some((x) => x.class === c))
          .map((c) => (
            <Row as="span" key={c} className="soft small">
              <i className={`look key is-${c}`} />
              {c}
            </Row>
          ))}
        <span className="grow" />
        {strip && strip.size > 8192 && (
          <TextButton onClick={() => setNear(!near)}>
            {near ? 'The whole file' : `Closer: ${bytes(span)} round the cursor`}
          </TextButton>
        )}
        <TextButton onClick={onDescribe}>Describe it with a layout</TextButton>
        <TextButton onClick={onClose}>Back to the sources</TextButton>
      </Row>
    </div>
  )
}
