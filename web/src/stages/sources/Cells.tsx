// The cells of a line of the entry table.
import type { S } from '../../api/http'
import { bytes, count, split } from '../../parts/format'
import { Row } from '../../parts/Row'
import { Tag } from '../../parts/Tag'
import { Text } from '../../parts/Text'
import { kindWords } from './kinds'
import type { Line } from './lines'

export function Cells({ l }: { l?: Line }) {
  if (!l) return <Text tone="soft">…</Text>
  switch (l.is) {
    case 'entry':
      return <EntryCells e={l.entry} depth={l.depth} name={l.name} />
    case 'folder':
      return (
        <>
          <Text clip style={{ paddingLeft: l.depth * 16 }}>
            <Text tone="soft" mono>
              {l.open ? '▾ ' : '▸ '}
            </Text>
            {l.name}/
          </Text>
          <Text tone="soft">folder · {count(l.entries)}</Text>
          <span className="n">{bytes(l.bytes)}</span>
          <span />
          <span />
          <span />
        </>
      )
    case 'set':
      return (
        <>
          <Text clip>{l.set.key}</Text>
          <Text tone="soft" clip>
            {Object.entries(l.set.kinds)
              .map(([k, n]) => `${count(n)} ${kindWords[k as S['Kind']][n === 1 ? 0 : 1]}`)
              .join(', ')}
          </Text>
          <span className="n">{bytes(l.set.bytes)}</span>
          <span />
          <span className="n">{count(l.set.entries)}</span>
          <span />
        </>
      )
  }
}

function EntryCells({ e, depth, name }: { e: S['Entry']; depth: number; name?: string }) {
  const [dir, base] = split(e.path)
  const whole = e.needs !== undefined && e.found === e.needs
  return (
    <>
      <Row as="span" style={{ minWidth: 0, paddingLeft: depth * 16 }}>
        <Text clip title={e.path}>
          {name ? (
            name
          ) : (
            <>
              <Text tone="soft">{dir}</Text>
              {base}
            </>
          )}
        </Text>
        {e.overriddenBy && (
          <Tag clip title={`${e.overriddenBy} wins for this path`}>
            overridden by {e.overriddenBy}
          </Tag>
        )}
        {e.others && (
          <Tag
            tone="good"

            title={`${e.others.join(', ')} hold${e.others.length === 1 ? 's' : ''} this path too`}
          >
            wins
          </Tag>
        )}
        {e.error && (
          <Tag tone="bad" title={e.error}>
            cannot be read
          </Tag>
        )}
      </Row>
      <Text clip>
        {kindWords[e.kind][0]}
        {e.format && <Text tone="soft"> · {e.format}</Text>}
      </Text>
      <span className="n">{bytes(e.size)}</span>
      <span className="n">
        {e.size > 0 && e.packed >= 0 ? `${Math.round((100 * e.packed) / e.size)}%` : '–'}
      </span>
      <span className={`n ${e.needs === undefined ? '' : whole ? 'ok' : 'warn'}`}>
        {e.needs === undefined ? '' : `${e.found} of ${e.needs}`}
      </span>
      <Text tone="soft" clip title={e.sourceLabel}>
        {e.sourceLabel}
      </Text>
    </>
  )
}
