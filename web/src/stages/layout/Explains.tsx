// Which bytes of a file a layout's fields are.
import type { S } from '../../api/http'
import { count } from '../../parts/format'
import { Row } from '../../parts/Row'
import { Text } from '../../parts/Text'

/** How much of the entry is explained, and where it is not. */
export function Explains({
  x,
  sel,
  onGo,
}: {
  x?: S['Explained']
  sel: { at: number; n: number }
  onGo: (at: number, n: number) => void
}) {
  if (!x || x.size === 0) return null
  return (
    <>
      <div className="stripband thin" role="group" aria-label="What is not explained">
        {x.gaps.map((g) => (
          <button
            key={g.at}
            className="gap"
            style={{ left: `${(100 * g.at) / x.size}%`, width: `max(2px, ${(100 * g.size) / x.size}%)` }}
            title={`${count(g.size)} bytes from ${count(g.at)} on that nothing explains`}
            aria-label={`unexplained at ${g.at}`}
            onClick={() => onGo(g.at, g.size)}
          />
        ))}
        <i style={{ left: `${(100 * sel.at) / x.size}%` }} />
      </div>
      <Row wrap className="small">
        <span data-covered={x.covered}>
          {x.covered === x.size
            ? `All ${count(x.size)} bytes are explained`
            : `${count(x.covered)} of ${count(x.size)} bytes are explained (${Math.floor((100 * x.covered) / x.size)} %)`}
        </span>
        {x.made && (
          <Text tone="soft" data-made>
            {x.made}
          </Text>
        )}
      </Row>
    </>
  )
}
