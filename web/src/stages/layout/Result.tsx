// What a layout made of a file.
import { useMade } from '../../api/layouts'
import { viewUrl } from '../../api/scenes'
import { Fault } from '../../parts/bits'
import { bytes, count, plural } from '../../parts/format'
import { View3D } from '../../parts/View3D'
import { Empty } from '../../parts/Empty'
import { Item } from '../../parts/Item'
import { Scroll } from '../../parts/Scroll'
import { Text } from '../../parts/Text'

export function Result({
  entry,
  doc,
  works,
  onGo,
}: {
  entry: number
  doc: string
  works: boolean
  onGo: (at: number, n: number) => void
}) {
  const made = useMade(entry, doc, works)
  const m = made.data
  return (
    <Scroll column data-result={m?.kind}>
      <Fault error={made.error} />
      {!works && (
        <Item className="soft small">
          {m
            ? 'The layout fails now; this is what it last gave.'
            : 'Nothing comes out yet: the layout does not read this entry to its end.'}
        </Item>
      )}
      {m?.picture && (
        <div className="trialpicture">
          <img
            alt="What the layout makes of the entry"
            data-made-picture={`${m.width}x${m.height}`}
            src={`data:image/png;base64,${m.picture}`}
            style={{ width: Math.min(400, Math.max(160, m.width ?? 0)) }}
          />
        </div>
      )}
      {m?.model && (
        <>
          <View3D
            className="small"
            tools={false}
            panes={[
              {
                url: viewUrl(m.model.scene),
                nodes: m.model.stats.nodes,
                title: m.model.name,
                note: `${plural(m.model.stats.triangles, 'triangle')} · ${plural(m.model.stats.bones, 'bone')}`,
              },
            ]}
          />
          {m.model.pictures
            .filter((p) => p.missing)
            .map((p) => (
              <Item key={p.name}>
                <Text tone="warn">{p.name}</Text> not found
                {p.looked.map((l) => (
                  <small key={l}>looked for {l}</small>
                ))}
              </Item>
            ))}
          {m.model.notes.map((n) => (
            <Item className="small" key={n}>
              {n}
            </Item>
          ))}
        </>
      )}
      {m?.kind === 'container' &&
        (!m.entries?.length ? (
          <Empty>
            <b>No entries yet</b>Say under container which list holds them: each, name, at and size.
          </Empty>
        ) : (
          <>
            <Item className="small soft">
              {plural(m.count ?? 0, 'entry', 'entries')}
              {(m.count ?? 0) > m.entries.length && `, the first ${count(m.entries.length)}`}
            </Item>
            {m.entries.map((e, i) => (
              <button
                className="leaf wide"
                key={i}
                data-made-entry={e.name}
                onClick={() => onGo(e.at, e.size)}
              >
                <Text as="b" clip>
                  {e.name}
                </Text>
                <Text tone="soft">{e.codec}</Text>
                <span className="n">{bytes(e.size)}</span>
                {e.error && (
                  <Text tone="bad" small clip title={e.error}>
                    {e.error}
                  </Text>
                )}
              </button>
            ))}
          </>
        ))}
    </Scroll>
  )
}
