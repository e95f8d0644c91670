// What a find's coordinates mean: what the file says, what speaks for what,
// and what the porter decides.
import { Button, MenuItem, OutlinedInput, Select } from '@mui/material'
import { useState } from 'react'
import { decideBasis, leaveBasis } from '../../api/finds'
import { useAct, type S } from '../../api/http'
import { useClues } from '../../api/scenes'
import { Fault } from '../../parts/bits'
import { metres } from '../../parts/format'
import { readNumber } from '../../parts/number'
import { FactGrid } from '../../parts/Facts'
import { Form, Label, Pair } from '../../parts/Form'
import { Head } from '../../parts/Head'
import { Item } from '../../parts/Item'
import { Mini } from '../../parts/Mini'
import { Row } from '../../parts/Row'
import { Scroll } from '../../parts/Scroll'
import { Tag } from '../../parts/Tag'
import { Text } from '../../parts/Text'
import { TextButton } from '../../parts/TextButton'

const axes = ['+X', '-X', '+Y', '-Y', '+Z', '-Z']
const units: [number, string][] = [
  [1, 'metres'],
  [0.1, 'decimetres'],
  [0.01, 'centimetres'],
  [0.001, 'millimetres'],
  [0.0254, 'inches'],
  [0.3048, 'feet'],
]
const signed = (a: string) => (/^[XYZ]$/.test(a) ? `+${a}` : a)
const figure = 1.75
/** Axes with a minus sign, not a hyphen. */
const minus = (t: string) => t.replace(/-([XYZ])/g, '−$1')

export function BasisOf({ project, find, model }: { project: number; find: number; model: S['Model'] }) {
  const { data: clues, error } = useClues(model.scene)
  const now = model.basis,
    own = model.declared ?? model.basis
  const [b, setB] = useState<S['Decision']>()
  const [unit, setUnit] = useState<string>()
  const { act, fault } = useAct(project)
  const v = b ?? {
    up: now.up,
    front: now.front,
    handedness: now.handedness,
    metresPerUnit: now.metresPerUnit,
  }
  const change = (x: Partial<S['Decision']>) => setB({ ...v, ...x })
  const typed = unit ? readNumber(unit) : undefined,
    unread = !!unit && !(typed! > 0)

  const raw = model.stats.max.map((x, i) => x - model.stats.min[i])
  const k = 'XYZ'.indexOf(v.up.slice(-1)),
    tall = k >= 0 && v.up ? raw[k] * v.metresPerUnit : undefined
  const field = (label: string, value: string, list: [string, string][], set: (x: string) => void) => (
    <Label>
      {label}
      <Select
        fullWidth
        displayEmpty
        value={value}
        inputProps={{ 'aria-label': label }}
        onChange={(e) => set(e.target.value)}
      >
        <MenuItem value="">not known</MenuItem>
        {list.map(([x, text]) => (
          <MenuItem key={x} value={x}>
            {text}
          </MenuItem>
        ))}
      </Select>
    </Label>
  )
  const axis = (x: string) =>
    axes.map((a): [string, string] => [a, minus(a)]).filter(([a]) => a.slice(1) !== x.slice(1) || !x)
  const take = (c: { about: string; says: string }) =>
    change(
      c.about === 'up'
        ? { up: signed(c.says) }
        : c.about === 'front'
          ? { front: signed(c.says) }
          : c.about === 'unit'
            ? { metresPerUnit: Number(c.says) }
            : { handedness: c.says },
    )
  return (
    <Scroll>
      <Fault error={error ?? fault} />
      <Head plain>
        <h2>The file says</h2>
        {model.declared && <Tag tone="warn">decided otherwise</Tag>}
      </Head>
      <FactGrid>
        <span>Up</span>
        <div>{minus(own.up) || 'nothing'}</div>
        <span>Front</span>
        <div>{minus(own.front) || 'nothing'}</div>
        <span>Hand</span>
        <div>{own.handedness || 'nothing'}</div>
        <span>Unit</span>
        <div>{own.metresPerUnit ? unitName(own.metresPerUnit) : 'nothing'}</div>
      </FactGrid>
      <Head plain ruled>
        <h2>Evidence</h2>
      </Head>
      {clues?.length === 0 && <Item className="soft">Neither names of bones nor its shape tell.</Item>}
      {clues?.map((c) => (
        <Item between key={c.about + c.says} data-clue={c.about}>
          <div className="grow">
            <b>{c.about === 'unit' ? unitName(Number(c.says)) : `${c.about} ${c.says}`}</b>
            <small>{minus(c.why)}</small>
          </div>
          {c.about !== 'left' && (
            <Mini onClick={() => take(c)} aria-label={`Use ${c.about} ${c.says}`}>
              Use
            </Mini>
          )}
        </Item>
      ))}
      <Head plain>
        <h2>Your decision</h2>
      </Head>
      <Form last>
        <Pair>
          {field('Up', signed(v.up), axis(v.front), (up) => change({ up }))}
          {field('Front', signed(v.front), axis(v.up), (front) => change({ front }))}
        </Pair>
        <Pair>
          {field(
            'Hand',
            v.handedness,
            [
              ['right', 'right'],
              ['left', 'left'],
            ],
            (handedness) => change({ handedness }),
          )}
          <Label>
            Metres a unit
            <OutlinedInput
              fullWidth
              value={unit ?? (v.metresPerUnit || '')}
              placeholder="not known"
              error={unread}
              inputProps={{ 'aria-label': 'Metres a unit', inputMode: 'decimal' }}
              onChange={(e) => {
                setUnit(e.target.value)
                const n = e.target.value === '' ? 0 : readNumber(e.target.value)
                if (n === 0 || n! > 0) change({ metresPerUnit: n })
              }}
            />
          </Label>
        </Pair>
        <Row wrap className="small units">
          {units.map(([m, name]) => (
            <TextButton
              key={name}

              onClick={() => {
                setUnit(undefined)
                change({ metresPerUnit: m })
              }}
            >
              {name}
            </TextButton>
          ))}
        </Row>
        <Text as="p" tone="soft" small data-tall>
          {tall === undefined
            ? 'Which way is up is not known, so its height is not either.'
            : v.metresPerUnit
              ? `It would be ${metres(tall)} tall, ${times(tall / figure)} the scale figure.`
              : `It is ${raw[k].toPrecision(4)} units tall; without a unit nobody knows how large that is.`}
        </Text>
        <Row>
          <Button variant="contained" disabled={!b || unread} onClick={() => act(() => decideBasis(find, v))}>
            Decide
          </Button>
          {b && (
            <Button
              onClick={() => {
                setB(undefined)
                setUnit(undefined)
              }}
            >
              Leave it
            </Button>
          )}
          {!b && model.declared && (
            <Button onClick={() => act(() => leaveBasis(find))}>Take the file's word</Button>
          )}
        </Row>
      </Form>
    </Scroll>
  )
}

const times = (x: number) =>
  x >= 10 ? `${x.toFixed(0)} times` : x >= 0.095 ? `${x.toFixed(1)} times` : `a ${(1 / x).toFixed(0)}th of`
const unitName = (m: number) => units.find(([x]) => Math.abs(x / m - 1) < 1e-6)?.[1] ?? `${m} m a unit`
