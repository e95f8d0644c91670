// The picture desk: what each picture of a scene is, and what it is used for.
import { Button, FormControlLabel, Checkbox, MenuItem, Select } from '@mui/material'
import { useState } from 'react'
import { useFormats } from '../../api/finds'
import type { S } from '../../api/http'
import { scenePicture, useAppraisal } from '../../api/scenes'
import type { Put } from '../../parts/address'
import { Fault, Pictures } from '../../parts/bits'
import { Bind } from '../../parts/Bind'
import { PictureView } from '../../parts/PictureView'
import { Body } from '../../parts/Body'
import { FactGrid } from '../../parts/Facts'
import { Head } from '../../parts/Head'
import { Row } from '../../parts/Row'
import { Scroll } from '../../parts/Scroll'
import { Text } from '../../parts/Text'
import { TextButton } from '../../parts/TextButton'

interface Use {
  material: string
  index: number
  role: string
  channels: string
  uvSet: number
}

/** What each picture is used for. */
const uses = (v: S['Inventory'] | undefined, n: number): Use[] =>
  (v?.materials ?? []).flatMap((m, index) =>
    m.textures
      .filter((t) => t.picture === n)
      .map((t) => ({
        material: m.name || `material ${index + 1}`,
        index,
        role: t.role,
        channels: t.channels,
        uvSet: t.uvSet,
      })),
  )

/** The picture large, over the model. */
export function Large({
  model,
  pic,
  channels,
  put,
}: {
  model: S['Model']
  pic: number
  channels: string
  put: Put
}) {
  const p = model.pictures[pic]
  return (
    <div className="overlay" data-picture-desk={p.name}>
      <Head>
        <h2>{p.name}</h2>
        <Text tone="soft" small>
          {p.width} × {p.height} texels
        </Text>
      </Head>
      <PictureView
        className="fill"
        url={(s) => scenePicture(model.scene, pic, s)}
        name={p.name}
        width={p.width ?? 1}
        height={p.height ?? 1}
        show={channels}
        onShow={(s) => put({ channel: s === 'all' ? '' : s })}
      >
        <TextButton onClick={() => put({ pic: '', channel: '' })}>Back to the model</TextButton>
      </PictureView>
    </div>
  )
}

export function Desk({
  project,
  model,
  inventory,
  pic,
  put,
}: {
  project: number
  model: S['Model']
  inventory?: S['Inventory']
  pic: number
  put: Put
}) {
  const there = model.pictures.filter((p) => !p.missing).length
  return (
    <Scroll>
      {there === 0 && (
        <Pictures list={model.pictures} bind={(ref) => <Bind project={project} name={ref} />} />
      )}
      {there > 0 &&
        model.pictures.map((p, i) =>
          p.missing ? null : (
            <PictureItem
              key={i}
              model={model}
              n={i}
              name={p.name}
              used={uses(inventory, i)}
              on={i === pic}
              put={put}
            />
          ),
        )}
      {there > 0 && there < model.pictures.length && (
        <>
          <Head plain ruled>
            <h2>Missing</h2>
          </Head>
          <Pictures
            list={model.pictures.filter((p) => p.missing)}
            bind={(ref) => <Bind project={project} name={ref} />}
          />
        </>
      )}
    </Scroll>
  )
}

function PictureItem({
  model,
  n,
  name,
  used,
  on,
  put,
}: {
  model: S['Model']
  n: number
  name: string
  used: Use[]
  on: boolean
  put: Put
}) {
  const { data: a, error } = useAppraisal(model.scene, n)
  const asColour = used.length === 0 || used.some((u) => /colour|emission|shade|matcap|rim/.test(u.role))
  const odd =
    a &&
    ((a.kind === 'normal map' && used.some((u) => !/normal/.test(u.role))) ||
      (a.kind === 'colour' && used.length > 0 && used.every((u) => /^normal/.test(u.role))))
  return (
    <div className={`pictureitem ${on ? 'on' : ''}`} data-desk={name}>
      <button className="card" aria-expanded={on} onClick={() => put({ pic: on ? '' : n, channel: '' })}>
        <img className="thumb small" src={scenePicture(model.scene, n)} alt="" loading="lazy" />
        <span className="grow">
          <Text as="b" clip>
            {name}
          </Text>
          <Text as="small" clip>
            {a ? `${a.width} × ${a.height} · ` : ''}
            {used.length
              ? used
                  .map((u) => u.role)
                  .filter((x, i, l) => l.indexOf(x) === i)
                  .join(', ')
              : 'used by no material'}
          </Text>
          {a && (
            <small className={odd || a.notices.length ? 'warn' : ''}>
              {odd
                ? `looks like a ${a.kind}`
                : a.notices.length
                  ? a.notices[0]
                  : `${a.kind}${a.green ? `, green ${a.green}` : ''}`}
            </small>
          )}
        </span>
      </button>
      <Fault error={error} />
      {on && a && (
        <Body>
          <Histogram bins={a.histogram} />
          <FactGrid flush>
            <span>Looks like</span>
            <div>
              <b>{a.kind}</b>, {a.surety >= 0.8 ? 'quite surely' : a.surety >= 0.5 ? 'probably' : 'perhaps'}
              {a.evidence.map((e) => (
                <Text as="small" tone="soft" block key={e}>
                  {e}
                </Text>
              ))}
            </div>
            {a.green && (
              <>
                <span>Green</span>
                <div>
                  {a.green === 'up'
                    ? 'up, as glTF has it'
                    : a.green === 'down'
                      ? 'down: glTF has it up'
                      : a.green}
                </div>
              </>
            )}
            {a.notices.length > 0 && (
              <>
                <span>Odd</span>
                <div>
                  {a.notices.map((x) => (
                    <Text as="div" tone="warn" key={x}>
                      {x}
                    </Text>
                  ))}
                </div>
              </>
            )}
            <span>Used by</span>
            <div>
              {used.length === 0
                ? 'no material'
                : used.map((u) => (
                    <div key={u.material + u.role}>
                      <TextButton onClick={() => put({ tab: 'inventory', chosen: `k${u.index}`, pic: '' })}>
                        {u.material}
                      </TextButton>{' '}
                      as {u.role}, {u.channels}, UV set {u.uvSet + 1}
                    </div>
                  ))}
            </div>
            <span>Read as</span>
            <div>{asColour ? 'colour (sRGB)' : 'numbers, not colour'}</div>
          </FactGrid>
          <SavePicture scene={model.scene} n={n} name={name} />
        </Body>
      )}
    </div>
  )
}

/** How often each value occurs, a row a channel, the tallest bar the full height. */
function Histogram({ bins }: { bins: number[][] }) {
  return (
    <div
      className="histogram"
      role="img"
      aria-label="Histogram of red, green, blue and alpha, from 0 on the left to 255"
    >
      {bins.map((b, c) => {
        const most = Math.max(...b, 1)
        return (
          <div key={c}>
            <span>{'RGBA'[c]}</span>
            <svg viewBox="0 0 64 20" preserveAspectRatio="none">
              <path
                className={`h${c}`}
                d={`M0 20 ${b.map((v, i) => `L${i} ${20 - (v > 0 ? Math.max(0.6, 20 * Math.sqrt(v / most)) : 0)} h1`).join(' ')} L64 20 Z`}
              />
            </svg>
          </div>
        )
      })}
      <div>
        <span />
        <small className="soft row between">
          <i>0</i>
          <i>255</i>
        </small>
      </div>
    </div>
  )
}

function SavePicture({ scene, n, name }: { scene: string; n: number; name: string }) {
  const { data } = useFormats()
  const list = (data ?? []).filter((f) => f.kind === 'picture' && f.writes)
  const [format, setFormat] = useState('png')
  const [texels, setTexels] = useState('')
  const [mips, setMips] = useState(true)
  const of = list.find((f) => f.name === format)
  const query = new URLSearchParams({
    format,
    ...(of?.texels ? { texels: texels || of.texels[0], mips: String(mips) } : {}),
  })
  return (
    <Row wrap>
      {list.length > 0 && (
        <Select
          value={format}
          inputProps={{ 'aria-label': 'Picture format' }}
          onChange={(e) => setFormat(e.target.value)}
        >
          {list.map((f) => (
            <MenuItem key={f.name} value={f.name}>
              {f.title}
            </MenuItem>
          ))}
        </Select>
      )}
      {of?.texels && (
        <>
          <Select
            value={texels || of.texels[0]}
            inputProps={{ 'aria-label': 'Texels' }}
            onChange={(e) => setTexels(e.target.value)}
          >
            {of.texels.map((t) => (
              <MenuItem key={t} value={t}>
                {t}
              </MenuItem>
            ))}
          </Select>
          <FormControlLabel
            control={<Checkbox checked={mips} onChange={(e) => setMips(e.target.checked)} />}
            label="With mips"
          />
        </>
      )}
      <Button
        component="a"
        href={`/api/scenes/${scene}/pictures/${n}/file?${query}`}
        download
        aria-label={`Save ${name}`}
      >
        Save
      </Button>
    </Row>
  )
}
