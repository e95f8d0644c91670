// A find beside another find, or beside a band of a chain: every figure, and
// how far the surfaces are apart.
import { Autocomplete, FormControlLabel, OutlinedInput, Switch, TextField } from '@mui/material'
import { useRef, useState } from 'react'
import { useBandsOfAll, useChains } from '../../api/chains'
import { useGallery } from '../../api/finds'
import type { S } from '../../api/http'
import { scenePicture, useComparison } from '../../api/scenes'
import type { Put } from '../../parts/address'
import { Fault } from '../../parts/bits'
import { count, metres } from '../../parts/format'
import { readNumber, rescaled } from '../../parts/number'
import { Table, TableHead, TableBody, TableRow, TableCell } from '@mui/material'
import { Empty } from '../../parts/Empty'
import { FactGrid } from '../../parts/Facts'
import { Form } from '../../parts/Form'
import { Head } from '../../parts/Head'
import { Item } from '../../parts/Item'
import { Row } from '../../parts/Row'
import { Scroll } from '../../parts/Scroll'
import { Tag } from '../../parts/Tag'
import { Text } from '../../parts/Text'
import { TextButton } from '../../parts/TextButton'
import { Tools } from '../../parts/Tools'

/** Another scene to hold against: f and a find's number, or b with a chain and a band. */
export interface Other {
  key: string
  name: string
  group: string
  scene: string
}

/** What a find can be compared with. */
export function useOthers(project: number, find: number, on: boolean): Other[] {
  const { data: finds } = useGallery(project)
  const { data: chains } = useChains(project)
  const bands = useBandsOfAll(project, on ? (chains ?? []).map((c) => c.id) : [])
  if (!on) return []
  return [
    ...(chains ?? []).flatMap((c, i) =>
      (bands[i]?.data?.bands ?? [])
        .filter((b) => b.scene)
        .map((b) => ({
          key: `b${c.id}.${b.index}`,
          name: `${b.index > 0 ? `${b.index} ` : ''}${b.title}`,
          group: `Chain ${c.name}`,
          scene: b.scene!,
        })),
    ),
    ...(finds ?? [])
      .filter((f) => f.id !== find && f.scene)
      .map((f) => ({ key: `f${f.id}`, name: f.name, group: 'Finds', scene: f.scene! })),
  ]
}

export function Compare({
  model,
  others,
  other,
  tolerance,
  far,
  picture,
  put,
}: {
  model: S['Model']
  others: Other[]
  other?: Other
  tolerance?: number
  far: boolean
  picture: number
  put: Put
}) {
  const { data: c, error, isFetching } = useComparison(other && model.scene, other?.scene, tolerance)
  const [all, setAll] = useState(false)
  const [text, setText] = useState<string>()
  const later = useRef(0)
  const type = (v: string) => {
    setText(v)
    window.clearTimeout(later.current)
    const n = readNumber(v)
    if (v === '' || (n !== undefined && n > 0))
      later.current = window.setTimeout(() => put({ tol: v === '' ? '' : rescaled(n!, 0.001) }), 400)
  }
  const unit = c?.surface.unit === 'm'
  const length = (v: number) =>
    unit ? (v === 0 ? '0 mm' : metres(v)) : `${v === 0 ? '0' : v.toPrecision(3)} units`
  const tables: [string, S['DiffRow'][]][] = c
    ? [
        ['Figures', c.figures],
        [unit ? 'Bones, places in m' : 'Bones, places in units', c.bones],
        ['Materials', c.materials],
        ['Sets', c.sets],
        ['Motions', c.motions],
        ['Other things', c.things],
      ]
    : []
  const rows = c?.pictures ?? []
  return (
    <Scroll>
      <Form narrow>
        <Autocomplete
          size="small"
          options={others}
          value={other ?? null}
          groupBy={(o) => o.group}
          getOptionLabel={(o) => o.name}
          getOptionKey={(o) => o.key}
          isOptionEqualToValue={(a, b) => a.key === b.key}
          onChange={(_, o) => put({ with: o?.key, far: '', diff: '' })}
          renderInput={(p) => (
            <TextField
              {...p}
              placeholder="A find, or a band of a chain"
              slotProps={{
                ...p.slotProps,
                htmlInput: { ...p.slotProps.htmlInput, 'aria-label': 'Compare with' },
              }}
            />
          )}
        />
      </Form>
      <Fault error={error} />
      {!other && (
        <Empty>
          <b>Compare</b>Choose what to hold against it: another find, or what a chain made of one. Both are
          then shown with one camera and one time.
        </Empty>
      )}
      {other && isFetching && <Item className="soft">Being measured…</Item>}
      {c && (
        <>
          <div className={`verdict ${c.same ? 'ok' : 'warn'}`} data-verdict={c.same ? 'same' : 'differs'}>
            {c.verdict.charAt(0).toUpperCase() + c.verdict.slice(1)}.
          </div>
          {c.surface.known && (
            <FactGrid>
              <span>Farthest apart</span>
              <div data-most>{length(c.surface.most)}</div>
              <span>On average</span>
              <div>{length(c.surface.mean)}</div>
              <span>95 of 100</span>
              <div>
                within {length(c.surface.p95)}
                {c.surface.sampled && (
                  <Text as="small" tone="soft" block>
                    of 200,000 vertices of each
                  </Text>
                )}
              </div>
              <span>Tolerance</span>
              <Row>
                <OutlinedInput
                  error={!!text && !(readNumber(text)! > 0)}
                  value={text ?? String(Number((1000 * c.tolerance).toPrecision(4)))}
                  inputProps={{ 'aria-label': 'Tolerance', inputMode: 'decimal', size: 7 }}
                  onChange={(e) => type(e.target.value)}
                />
                <Text tone="soft">{unit ? 'mm' : 'thousandths of a unit'}</Text>
              </Row>
            </FactGrid>
          )}
          <Tools low between>
            <FormControlLabel
              control={
                <Switch
                  size="small"
                  checked={far}
                  onChange={(e) => put({ far: e.target.checked ? 1 : '' })}
                />
              }
              label="Distance as colour"
            />
            <FormControlLabel
              control={<Switch size="small" checked={all} onChange={(e) => setAll(e.target.checked)} />}
              label="What is equal too"
            />
          </Tools>
          {far && (
            <Tools low className="soft small" data-legend>
              <span className="key verdi">within half the tolerance</span>
              <span className="key ochre">twice</span>
              <span className="key iron">ten times and more</span>
            </Tools>
          )}
          {tables.map(([title, list]) => (
            <Differences key={title} title={title} list={list} all={all} />
          ))}
          {c.notCompared.length > 0 && (
            <Item className="soft" data-not-compared>
              Not compared: {c.notCompared.join(', ')}.
            </Item>
          )}
          {rows.length > 0 && (
            <>
              <Head plain ruled>
                <h2>Pictures</h2>
                <Differ n={rows.filter((r) => r.differ).length} />
              </Head>
              {rows
                .filter((r) => all || r.differ || r.most > 0)
                .map((r, i) => (
                  <Item key={i} data-diff={r.name}>
                    <b className={r.differ ? 'warn' : ''}>{r.name}</b>
                    <small>
                      {r.a}
                      {r.a !== r.b && ` beside ${r.b || 'none'}`}
                      {r.most > 0 &&
                        `: channels differ by up to ${r.most} of 255, ${r.mean.toFixed(2)} on average`}
                    </small>
                    {r.pictureB >= 0 && r.a === r.b && r.a !== 'missing' && r.most > 0 && (
                      <TextButton onClick={() => put({ diff: picture === i ? '' : i })}>
                        {picture === i ? 'Back to the model' : 'Show where'}
                      </TextButton>
                    )}
                  </Item>
                ))}
            </>
          )}
        </>
      )}
    </Scroll>
  )
}

const number = (t: string) => (/^\d+$/.test(t) ? count(Number(t)) : t)

function Differ({ n }: { n: number }) {
  return n > 0 ? <Tag tone="warn">{n} differ</Tag> : <Tag tone="good">the same</Tag>
}

function Differences({ title, list, all }: { title: string; list: S['DiffRow'][]; all: boolean }) {
  const shown = list.filter((r) => all || r.differ)
  if (list.length === 0) return null
  return (
    <>
      <Head plain ruled>
        <h2>{title}</h2>
        <Differ n={list.filter((r) => r.differ).length} />
      </Head>
      {shown.length > 0 && (
        <Table size="small" className="diff">
          <TableHead>
            <TableRow>
              <TableCell />
              <TableCell align="right">A, this</TableCell>
              <TableCell align="right">B</TableCell>
            </TableRow>
          </TableHead>
          <TableBody>
            {shown.map((r) => (
              <TableRow key={r.name} data-diff={r.name} className={r.differ ? 'differs' : ''}>
                <TableCell>{r.name}</TableCell>
                <TableCell align="right">{number(r.a) || 'none'}</TableCell>
                <TableCell align="right">{number(r.b) || 'none'}</TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      )}
    </>
  )
}

/** Three pictures side by side: of one scene, of the other, and where they differ. */
export function PictureDifference({
  a,
  b,
  row,
  put,
}: {
  a: string
  b: string
  row: S['SceneComparison']['pictures'][number]
  put: Put
}) {
  return (
    <div className="overlay" data-picture-difference={row.name}>
      <Head>
        <h2>{row.name}</h2>
        <TextButton onClick={() => put({ diff: '' })}>Back to the model</TextButton>
      </Head>
      <div className="three">
        {[
          ['A, this', scenePicture(a, row.pictureA)],
          ['B', scenePicture(b, row.pictureB)],
          [
            `Difference, white is ${row.most} of 255`,
            `/api/scenes/${a}/pictures/${row.pictureA}/difference?with=${b}&other=${row.pictureB}`,
          ],
        ].map(([title, src]) => (
          <figure key={title}>
            <img src={src} alt={title} />
            <figcaption>{title}</figcaption>
          </figure>
        ))}
      </div>
    </div>
  )
}
