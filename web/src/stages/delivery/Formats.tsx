// In which formats and sizes an asset is delivered: the model, its pictures by
// role, levels of detail, and a picture of it.
import { MenuItem, OutlinedInput, Select, styled } from '@mui/material'
import { Fragment } from 'react'
import type { Order } from '../../api/chains'
import { Fold } from '../../parts/Fold'
import { Form, Label, Pair } from '../../parts/Form'
import { named } from '../../parts/format'

type Roles = NonNullable<Order['roles']>
type Show = NonNullable<Order['show']>

const models = ['glb', 'vrm', 'obj', 'collada', 'ply', 'stl', 'x3d', 'vrml', '3mf', 'usda', 'usdz', 'bvh']
const sides = [4096, 2048, 1024, 512, 256]
const pictures = ['png', 'jpeg', 'dds', 'ktx2', 'tga'] as const
/** The roles that most assets have. */
const roles: [string, string][] = [
  ['colour', 'Colour'],
  ['normal', 'Normals'],
  ['metallic-roughness', 'Metal, roughness'],
  ['occlusion', 'Occlusion'],
  ['emission', 'Emission'],
]

const ByRole = styled('div')({
  display: 'grid',
  gridTemplateColumns: 'minmax(90px, 1fr) 92px 92px',
  gap: '4px 8px',
  alignItems: 'center',
  marginTop: 4,
  fontSize: 12.5,
})

/** One of some values; labelled by an element, or by a name that is not shown. */
function Choice<T extends string | number>({
  by,
  name,
  value,
  of,
  onChange,
}: {
  by?: string
  name?: string
  value: T
  of: readonly (readonly [T, string])[]
  onChange: (v: T) => void
}) {
  return (
    <Select
      fullWidth
      displayEmpty
      value={value}
      labelId={by}
      inputProps={{ 'aria-label': name }}
      onChange={(e) => onChange(e.target.value as T)}
    >
      {of.map(([v, words]) => (
        <MenuItem key={v} value={v}>
          {words}
        </MenuItem>
      ))}
    </Select>
  )
}

function Field<T extends string | number>({
  id,
  label,
  ...rest
}: {
  id: string
  label: string
  value: T
  of: readonly (readonly [T, string])[]
  onChange: (v: T) => void
}) {
  return (
    <div>
      <Label id={id}>{label}</Label>
      <Choice by={id} {...rest} />
    </div>
  )
}

export function Formats({ order, onOrder }: { order: Order; onOrder: (o: Order) => void }) {
  const set = (o: Partial<Order>) => onOrder({ ...order, ...o })
  return (
    <>
      <Fold title="Formats and sizes" id="delivery-formats">
        <Form flush={false} last>
          <Pair>
            <Field
              id="format"
              label="Model"
              value={order.format ?? ''}
              of={[['', 'as the sheet says'], ...models.map((f) => [f, f.toUpperCase()] as const)]}
              onChange={(v) => set({ format: v || undefined })}
            />
            <Field
              id="longest"
              label="Pictures apart at most"
              value={order.longest ?? 0}
              of={[[0, 'as they are'], ...sides.map((n) => [n, `${n} px`] as const)]}
              onChange={(v) => set({ longest: v || undefined })}
            />
          </Pair>
          <Pair>
            <Field
              id="levels"
              label="Levels of detail"
              value={(order.levels ?? []).length}
              of={[
                [0, 'none beside the model'],
                [1, 'a half'],
                [2, 'a half and a quarter'],
                [3, 'down to an eighth'],
              ]}
              onChange={(n) =>
                set({
                  levels: n > 0 ? Array.from({ length: n }, (_, i) => 0.5 ** (i + 1)) : undefined,
                })
              }
            />
            <div>
              <Label>Folder</Label>
              <OutlinedInput
                fullWidth
                defaultValue={order.layout?.folder ?? ''}
                placeholder="as the sheet says"
                inputProps={{ 'aria-label': 'Folder', spellCheck: false, maxLength: 200 }}
                onBlur={(e) => {
                  const folder = e.target.value.trim()
                  set({ layout: folder ? { folder, model: '{asset}', pictures: '{picture}' } : undefined })
                }}
              />
            </div>
          </Pair>
        </Form>
      </Fold>
      <Fold
        title="Pictures by what they are for"
        id="delivery-roles"
        sum={named(Object.keys(order.roles ?? {}), 2) || 'all alike'}
        shut
      >
        <Form flush={false} last>
          <PicturesByRole roles={order.roles ?? {}} onRoles={(r) => set({ roles: r })} />
        </Form>
      </Fold>
      <Fold
        title="A picture of it"
        id="delivery-show"
        sum={order.show ? `${order.show.width} × ${order.show.height} px` : 'none'}
        shut
      >
        <Form flush={false} last>
          <ShowOf show={order.show} onShow={(show) => set({ show })} />
        </Form>
      </Fold>
    </>
  )
}

/** Formats and sizes of pictures that lie apart, for each role. */
function PicturesByRole({ roles: of, onRoles }: { roles: Roles; onRoles: (r?: Roles) => void }) {
  const set = (role: string, to: Roles[string]) => {
    const next = { ...of, [role]: to }
    if (!to.format && !to.longest) delete next[role]
    onRoles(Object.keys(next).length > 0 ? next : undefined)
  }
  return (
    <ByRole data-roles={Object.keys(of).length}>
      <span />
      <span>Format</span>
      <span>At most</span>
      {roles.map(([role, words]) => (
        <Fragment key={role}>
          <span>{words}</span>
          <Choice
            name={`Format of ${words}`}
            value={of[role]?.format ?? ''}
            of={[['', 'usual'], ...pictures.map((f) => [f, f.toUpperCase()] as const)]}
            onChange={(f) => set(role, { ...of[role], format: f || undefined })}
          />
          <Choice
            name={`Longest side of ${words}`}
            value={of[role]?.longest ?? 0}
            of={[[0, 'usual'], ...sides.map((n) => [n, `${n} px`] as const)]}
            onChange={(n) => set(role, { ...of[role], longest: n || undefined })}
          />
        </Fragment>
      ))}
    </ByRole>
  )
}

/** The picture or turntable for the page where the asset will be shown. */
function ShowOf({ show, onShow }: { show?: Show; onShow: (s?: Show) => void }) {
  return (
    <>
      <Field
        id="show"
        label="Picture of it"
        value={show ? `${show.width} ${show.frames ?? 0}` : ''}
        of={[
          ['', 'none'],
          ...[640, 1280, 1920].map((n) => [`${n} 0`, `${n} × ${n * 0.75} px`] as const),
          ...[320, 640].map((n) => [`${n} 50`, `turntable, ${n} × ${n * 0.75} px`] as const),
        ]}
        onChange={(v) => {
          const [width, frames] = v.split(' ').map(Number)
          onShow(width > 0 ? { ...show, width, height: width * 0.75, frames } : undefined)
        }}
      />
      {show && (
        <>
          <Field
            id="background"
            label="Background"
            value={show.background ?? 'paper'}
            of={[
              ['paper', 'paper'],
              ['#ffffff', 'white'],
              ['#20262b', 'dark'],
              ['none', 'none: it lets through'],
            ]}
            onChange={(v) => onShow({ ...show, background: v })}
          />
          <Pair>
            <Field
              id="turn"
              label="From"
              value={show.turn ?? 0}
              of={[
                [0, 'three quarters front'],
                [32, 'the front'],
                [122, 'the left'],
                [-58, 'the right'],
                [212, 'the back'],
              ]}
              onChange={(v) => onShow({ ...show, turn: v })}
            />
            <Field
              id="tilt"
              label="Height"
              value={show.tilt ?? 0}
              of={[
                [-14, 'level'],
                [0, 'slightly above'],
                [21, 'from above'],
                [75, 'straight down'],
              ]}
              onChange={(v) => onShow({ ...show, tilt: v })}
            />
          </Pair>
        </>
      )}
    </>
  )
}
