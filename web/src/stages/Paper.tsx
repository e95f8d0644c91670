// A scene on paper: the model with the edges that are cut, the pages with its
// pieces, and what decides whether it is worth doing.
import { Button, InputAdornment, MenuItem, OutlinedInput, Select } from '@mui/material'
import { useMemo, useState } from 'react'
import { Link } from 'react-router'
import type { S } from '../api/http'
import { paperFile, usePaper, viewUrl, type PaperOptions } from '../api/scenes'
import { useAddress } from '../parts/address'
import { Fault } from '../parts/bits'
import { Body } from '../parts/Body'
import { Empty } from '../parts/Empty'
import { Facts } from '../parts/Facts'
import { Form, Label, Pair } from '../parts/Form'
import { count, plural } from '../parts/format'
import { Head } from '../parts/Head'
import type { Hit } from '../parts/Model3D'
import { readNumber } from '../parts/number'
import { Pane } from '../parts/Pane'
import { Panes } from '../parts/Panes'
import { useProjectId } from '../parts/project'
import { Scroll } from '../parts/Scroll'
import { Text } from '../parts/Text'
import { View3D } from '../parts/View3D'
import { Sheets } from './paper/Sheets'

const papers: [string, string][] = [
  ['a4', 'A4, 210 × 297 mm'],
  ['a3', 'A3, 297 × 420 mm'],
  ['letter', 'Letter, 8.5 × 11 in'],
]

/** A length that is typed; it counts when the field is left or Enter is pressed. */
function Length({ label, value, put }: { label: string; value: number; put: (v: number) => void }) {
  const [typed, setTyped] = useState<string>()
  const now = typed ?? String(value)
  const n = readNumber(now)
  const done = () => {
    if (n !== undefined && n >= 0 && n !== value) put(n)
    setTyped(undefined)
  }
  return (
    <Label>
      {label}
      <OutlinedInput
        fullWidth
        value={now}
        error={n === undefined || n < 0}
        inputProps={{ 'aria-label': label, inputMode: 'decimal' }}
        endAdornment={<InputAdornment position="end">mm</InputAdornment>}
        onChange={(e) => setTyped(e.target.value)}
        onBlur={done}
        onKeyDown={(e) => e.key === 'Enter' && done()}
      />
    </Label>
  )
}

const keys = (list: string | null) => (list ?? '').split(',').filter(Boolean)

type Edge = S['PaperEdge']

/** The edge that is nearest to a place on the model. */
function nearest(edges: Edge[], p: { x: number; y: number; z: number }) {
  let best: Edge | undefined
  let least = Infinity
  for (const e of edges) {
    if (e.open) continue
    const d = [0, 1, 2].map((k) => e.b[k] - e.a[k])
    const q = [p.x - e.a[0], p.y - e.a[1], p.z - e.a[2]]
    const l = d[0] ** 2 + d[1] ** 2 + d[2] ** 2
    const t = l > 0 ? Math.max(0, Math.min(1, (d[0] * q[0] + d[1] * q[1] + d[2] * q[2]) / l)) : 0
    const far = Math.hypot(q[0] - t * d[0], q[1] - t * d[1], q[2] - t * d[2])
    if (far < least) {
      least = far
      best = e
    }
  }
  return best
}

export function Paper() {
  const project = useProjectId()
  const [params, put] = useAddress()
  const scene = params.get('scene') ?? undefined
  const number = (k: string, usual: number) => readNumber(params.get(k) ?? '') ?? usual
  const height = number('height', 100),
    margin = number('margin', 10),
    tab = number('tab', 6)
  const options: PaperOptions = {
    height,
    paper: params.get('paper') ?? 'a4',
    margin,
    tab,
    cut: params.get('cut') ?? undefined,
    join: params.get('join') ?? undefined,
  }
  const { data, error, isPlaceholderData: stale } = usePaper(scene, options)
  const marks = useMemo(
    () => data?.edges.filter((e) => !e.folded).flatMap((e) => [...e.a, ...e.b]) ?? [],
    [data],
  )
  const cut = keys(params.get('cut')),
    join = keys(params.get('join'))
  /** What is folded is cut, what is cut is joined; a choice of one kind ends that of the other. */
  const turn = (e: Edge | undefined) => {
    if (!e || e.open) return
    const without = (list: string[]) => list.filter((k) => k !== e.key)
    const was = cut.includes(e.key) || join.includes(e.key)
    put({
      cut: [...without(cut), ...(!was && e.folded ? [e.key] : [])].join(','),
      join: [...without(join), ...(!was && !e.folded ? [e.key] : [])].join(','),
    })
  }
  const onPick = (_: number, hit: Hit | undefined) => {
    if (hit && data && !stale) turn(nearest(data.edges, hit.at))
  }
  if (!scene)
    return (
      <Empty>
        <b>Nothing to unfold</b>Choose an asset in <Link to={`/p/${project}/finds`}>Finds</Link> and take it
        to paper from there.
      </Empty>
    )
  const byHand = cut.length + join.length
  const mm = (v: number) => `${Math.round(v)}`
  return (
    <Panes
      id="paper"
      widths={[{ of: 290, least: 240 }, 'rest', { of: 480, least: 300 }]}
      labels={['how it is unfolded', 'the model', 'the pages']}
    >
      <Pane column>
        <Head title="Paper" end={<Text tone="soft">{data?.name}</Text>} />
        <Scroll>
          <Form>
            <Length label="Height of the model" value={height} put={(v) => put({ height: v })} />
            <Label>
              Paper
              <Select
                fullWidth
                value={options.paper}
                inputProps={{ 'aria-label': 'Paper' }}
                onChange={(e) => put({ paper: e.target.value === 'a4' ? '' : e.target.value })}
              >
                {papers.map(([k, words]) => (
                  <MenuItem key={k} value={k}>
                    {words}
                  </MenuItem>
                ))}
              </Select>
            </Label>
            <Pair>
              <Length label="Margin" value={margin} put={(v) => put({ margin: v })} />
              <Length label="Depth of tabs" value={tab} put={(v) => put({ tab: v })} />
            </Pair>
          </Form>
          <Fault error={error} />
          {!data && !error && (
            <Body>
              <Text as="p" tone="soft">
                Unfolding…
              </Text>
            </Body>
          )}
          {data && !error && (
            <>
              <div data-paper={stale ? 'waiting' : 'made'}>
                <Facts
                  of={[
                    ['Pages', count(data.pages)],
                    ['Pieces', count(data.pieces.length)],
                    ['By hand', `about ${data.hours} h`],
                    ['Size', `${data.size.map(mm).join(' × ')} mm`],
                    ['Faces', count(data.facets)],
                    ['Folds', count(data.folds)],
                    ['Edges to glue', count(data.cuts)],
                    ['To cut', `${(data.cutLength / 1000).toFixed(1)} m`],
                  ]}
                />
              </div>
              <Body className="row wrap">
                <Button variant="contained" component="a" href={paperFile(scene, options, 'pdf')}>
                  Save as PDF
                </Button>
                <Button component="a" href={paperFile(scene, options, 'svg')}>
                  Save as SVG
                </Button>
              </Body>
              <Body>
                <Text as="p" tone="soft" small>
                  Click a fold to cut there, a cut to fold there: on a page, or beside an edge of the model.
                  On a page the arrow keys go from line to line, and Enter does it.
                </Text>
                {byHand > 0 && (
                  <p className="row">
                    <span>
                      {plural(cut.length, 'edge')} cut, {join.length} joined by hand
                    </span>
                    <Button onClick={() => put({ cut: '', join: '' })}>Let go</Button>
                  </p>
                )}
                {data.notes.map((n) => (
                  <Text as="p" small tone="warn" key={n}>
                    {n}
                  </Text>
                ))}
              </Body>
            </>
          )}
        </Scroll>
      </Pane>
      <View3D
        panes={[
          {
            url: viewUrl(scene),
            title: data?.name ?? '',
            note: data && `${plural(data.edges.filter((e) => !e.folded).length, 'edge')} cut`,
            marks,
          },
        ]}
        tools={false}
        onPick={onPick}
      />
      <Pane ground>
        <Scroll tabIndex={0} role="group" aria-label="Pages">
          {data && <Sheets scene={scene} sheet={data} options={options} onEdge={turn} />}
        </Scroll>
      </Pane>
    </Panes>
  )
}
