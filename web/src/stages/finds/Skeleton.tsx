// The skeleton of a find: each bone with the limb that it is, what says so and
// what is odd about it; and in what it is not the skeleton that it must fit.
import { Autocomplete, Button, styled, TextField } from '@mui/material'
import { useVirtualizer } from '@tanstack/react-virtual'
import { useRef } from 'react'
import { useNavigate } from 'react-router'
import { likeChain } from '../../api/chains'
import { useGallery } from '../../api/finds'
import { useAct } from '../../api/http'
import { useRig } from '../../api/scenes'
import type { Put, Show } from '../../parts/address'
import { Fault } from '../../parts/bits'
import { Body } from '../../parts/Body'
import { Form, Label } from '../../parts/Form'
import { count, plural } from '../../parts/format'
import { Head } from '../../parts/Head'
import { Scroll } from '../../parts/Scroll'
import { Tag } from '../../parts/Tag'
import { Text } from '../../parts/Text'

const Bone = styled('div')({
  position: 'absolute',
  top: 0,
  left: 0,
  right: 0,
  display: 'flex',
  gap: 10,
  alignItems: 'center',
  paddingRight: 18,
  fontSize: 13,
  cursor: 'pointer',
  userSelect: 'none',
  '&:hover': { background: 'var(--paper)' },
  '&.on, &.on:hover': { background: 'var(--verdiT)', boxShadow: 'inset 4px 0 var(--verdi)' },
  '&:focus-visible': { outlineOffset: -2 },
})

/** What the kinds of differences are called. */
const kinds: Record<string, string> = {
  root: 'root',
  missing: 'missing',
  additional: 'extra',
  name: 'name',
  parent: 'parent',
  order: 'order',
  rest: 'pose',
  place: 'place',
  scale: 'scale',
}

export function Skeleton({
  project,
  find,
  digest,
  show,
  onShow,
  reference,
  onFit,
  put,
}: {
  project: number
  find: number
  /** The scene: the find's, or that of a band of its chain. */
  digest: string
  show: Show
  onShow: (s: Partial<Show>) => void
  /** The find whose skeleton it must fit. */
  reference?: number
  /** Fits the skeleton to that of an asset; else a chain is made that does. */
  onFit?: (from: string) => void
  put: Put
}) {
  const { data: finds } = useGallery(project)
  const others = (finds ?? []).filter((f) => f.scene && f.scene !== digest)
  const other = others.find((f) => f.id === reference)
  const { data, error } = useRig(digest, other?.scene)
  const { act, fault, busy } = useAct(project)
  const go = useNavigate()
  const box = useRef<HTMLDivElement>(null)
  const bones = data?.bones ?? []
  const virtual = useVirtualizer({
    count: bones.length,
    getScrollElement: () => box.current,
    estimateSize: () => 44,
    overscan: 10,
  })
  if (data && bones.length === 0)
    return <Body className="soft">It has no bones, and no motion that moves anything.</Body>
  const limbs = bones.filter((b) => b.limb).length
  const mend = () => {
    if (onFit) return onFit(other!.path)
    act(
      () =>
        likeChain(project, find, `${other!.name} skeleton`, {
          document: `chain: fit\nsteps:\n  - step: fit-skeleton\n    with: {from: ${JSON.stringify(other!.path)}}\n`,
        }),
      (c) => void go(`/p/${project}/chain/${c.id}`),
    )
  }
  return (
    <Scroll column ref={box} aria-label="Skeleton" tabIndex={-1} data-rig={bones.length}>
      <Body>
        {plural(bones.length, 'bone')}, {count(limbs)} of a body told
        {data && data.missing.length > 0 && (
          <Text as="div" tone="warn" small>
            No whole body: {data.missing.slice(0, 4).join(', ')}
            {data.missing.length > 4 && ` and ${count(data.missing.length - 4)} more`} could not be told.
          </Text>
        )}
        {data?.odd.map((x) => (
          <Text as="div" tone="warn" small key={x} data-odd>
            {x}
          </Text>
        ))}
      </Body>
      <Form narrow>
        <Label>Must fit the skeleton of</Label>
        <Autocomplete
          size="small"
          options={others}
          value={other ?? null}
          getOptionLabel={(o) => o.name}
          getOptionKey={(o) => o.id}
          isOptionEqualToValue={(a, b) => a.id === b.id}
          onChange={(_, o) => put({ fit: o?.id })}
          renderInput={(p) => (
            <TextField
              {...p}
              placeholder="Another find"
              slotProps={{
                ...p.slotProps,
                htmlInput: { ...p.slotProps.htmlInput, 'aria-label': 'Must fit the skeleton of' },
              }}
            />
          )}
        />
        {other && data?.against && (
          <div
            data-against={data.against.length}
            style={{ display: 'grid', gap: 6, justifyItems: 'start', marginTop: 8 }}
          >
            {data.against.length === 0 ? (
              <Text as="div" tone="good">
                It is the skeleton of {other.name}.
              </Text>
            ) : (
              <>
                <Text as="div">{plural(data.against.length, 'difference')}</Text>
                {data.against.slice(0, 12).map((d) => (
                  <Text as="div" small key={d.text}>
                    <Tag tone="warn">{kinds[d.kind] ?? d.kind}</Tag> {d.text}
                  </Text>
                ))}
                {data.against.length > 12 && (
                  <Text as="div" tone="soft" small>
                    and {count(data.against.length - 12)} more
                  </Text>
                )}
                <Button variant="contained" disabled={busy} onClick={mend}>
                  {onFit ? 'Try to fit it' : 'Fit it in a chain'}
                </Button>
              </>
            )}
          </div>
        )}
        <Fault error={error ?? fault} />
      </Form>
      <Head plain>
        <h2>Bones</h2>
        <Text tone="soft" small>
          choose one to see its weights and turn it
        </Text>
      </Head>
      <div
        role="tree"
        aria-label="Bones"
        style={{ height: virtual.getTotalSize(), position: 'relative', flex: 'none' }}
      >
        {virtual.getVirtualItems().map((x) => {
          const b = bones[x.index]
          const on = show.surface === 'weights' && show.bone === b.node
          const choose = () =>
            on
              ? onShow({ surface: 'textured', bone: -1 })
              : onShow({ surface: 'weights', bone: b.node, skeleton: true })
          return (
            <Bone
              key={b.node}
              role="treeitem"
              aria-level={b.depth + 1}
              aria-selected={on}
              tabIndex={0}
              className={on ? 'on' : undefined}
              data-bone={b.name}
              data-limb={b.limb}
              style={{
                transform: `translateY(${x.start}px)`,
                height: x.size,
                paddingLeft: 18 + 9 * Math.min(b.depth, 12),
              }}
              title={[
                b.limb &&
                  `${b.limb}, ${Math.round(100 * (b.sure ?? 0))} % sure: ${(b.evidence ?? []).join('; ')}`,
                `turned by ${b.turn.toFixed(1)}° at rest${b.moved ? ', moved by motions' : ''}`,
                ...(b.odd ?? []),
              ]
                .filter(Boolean)
                .join('\n')}
              onClick={choose}
              onKeyDown={(e) => {
                if (e.key === 'Enter' || e.key === ' ') {
                  e.preventDefault()
                  choose()
                }
              }}
            >
              <div className="grow">
                <Text as="div" clip>
                  {b.name}
                </Text>
                <Text as="div" tone={b.odd ? 'warn' : 'soft'} small clip>
                  {b.odd?.join(', ') ??
                    (b.vertices > 0
                      ? `${plural(b.vertices, 'vertex', 'vertices')} · ${(100 * b.share).toFixed(1)} % of the weight`
                      : 'nothing hangs on it')}
                </Text>
              </div>
              {b.limb && <Tag tone={(b.sure ?? 0) < 0.6 ? 'warn' : undefined}>{b.limb}</Tag>}
            </Bone>
          )
        })}
      </div>
    </Scroll>
  )
}
