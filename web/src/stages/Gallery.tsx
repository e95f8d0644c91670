// All finds as a grid of pictures: 500 at a glance, many chosen at once and
// acted on together.
import { Button, styled, ToggleButton, ToggleButtonGroup } from '@mui/material'
import { useVirtualizer } from '@tanstack/react-virtual'
import { useCallback, useLayoutEffect, useRef, useState, type KeyboardEvent, type MouseEvent } from 'react'
import { Link, useNavigate } from 'react-router'
import { findAll } from '../api/finds'
import { useAct, type S } from '../api/http'
import { thumb } from '../api/scenes'
import { lasting, useAddress } from '../parts/address'
import { Fault } from '../parts/bits'
import { count, metres, plural } from '../parts/format'
import { useProjectId } from '../parts/project'
import { TakenOut } from '../parts/TakenOut'
import { TextButton } from '../parts/TextButton'
import { Tone } from '../parts/Tone'
import { figuresOf, shownOf, StateOf } from './finds/brief'
import { FilterBar } from './finds/FilterBar'
import { useFiltered } from './finds/filter'
import { Together } from './finds/Together'

const Page = styled('div')({
  height: '100%',
  display: 'flex',
  flexDirection: 'column',
  background: 'var(--panel)',
  minWidth: 0,
})

const Tools = styled('div')({
  display: 'flex',
  flexWrap: 'wrap',
  gap: 8,
  alignItems: 'center',
  padding: '9px 18px',
  borderBottom: '1px solid var(--line)',
  '& h2': { fontSize: 14 },
  '& > .grow': { flex: 1 },
})

const Box = styled('div')({
  flex: 1,
  minHeight: 0,
  overflow: 'auto',
  position: 'relative',
  padding: '0 12px',
  background: 'var(--paper)',
})

const Line = styled('ul')({
  position: 'absolute',
  left: 12,
  right: 12,
  top: 0,
  margin: 0,
  padding: 0,
  listStyle: 'none',
  display: 'grid',
  gap: 8,
})

const Card = styled('li')({
  position: 'relative',
  minWidth: 0,
  background: 'var(--panel)',
  border: '1px solid var(--line)',
  fontSize: 12,
  overflow: 'hidden',
  cursor: 'pointer',
  '&:hover': { borderColor: 'var(--ink)' },
  '&.on': { background: 'var(--verdiT)', borderColor: 'var(--verdi)', boxShadow: 'inset 0 3px var(--verdi)' },
  '& .picture': {
    position: 'relative',
    background: 'var(--ground)',
    borderBottom: '1px solid var(--thin)',
    overflow: 'hidden',
  },
  '& img': {
    position: 'absolute',
    inset: 0,
    width: '100%',
    height: '100%',
    objectFit: 'contain',
    transformOrigin: '50% 70%',
  },
  '& input': {
    position: 'absolute',
    top: 6,
    left: 6,
    width: 16,
    height: 16,
    margin: 0,
    accentColor: 'var(--verdi)',
  },
  '& .says': { padding: '6px 9px 7px' },
  '& .says > *': {
    display: 'block',
    overflow: 'hidden',
    textOverflow: 'ellipsis',
    whiteSpace: 'nowrap',
    color: 'var(--soft)',
  },
  '& .says > a': { color: 'var(--ink)', fontWeight: 600, fontSize: 13, textDecoration: 'none' },
  '& a:hover': { textDecoration: 'underline' },
  '&.small .says': { padding: '3px 6px 4px' },
  '&.small .says > a': { fontSize: 12 },
  '&.small .says > span': { fontSize: 11 },
})

const Empty = styled('div')({
  padding: '36px 24px',
  color: 'var(--soft)',
  maxWidth: 560,
  '& b': { display: 'block', color: 'var(--ink)', fontSize: 15, marginBottom: 4 },
})

/** The least width of a card and the height of its picture and of its texts, px. */
const sizes = { large: [168, 150, 80], small: [92, 78, 42] } as const
type Size = keyof typeof sizes

/** How wide an element is, as long as it is shown. */
function useWidth() {
  const box = useRef<HTMLDivElement>(null)
  const [width, setWidth] = useState(0)
  useLayoutEffect(() => {
    const el = box.current
    if (!el) return
    const see = new ResizeObserver(() => setWidth(el.clientWidth))
    see.observe(el)
    return () => see.disconnect()
  }, [])
  return { box, width }
}

export function Gallery() {
  const project = useProjectId()
  const f = useFiltered(project)
  const [params, put] = useAddress()
  const go = useNavigate()
  const { act, fault } = useAct(project)
  const { box, width } = useWidth()
  const [picked, setPicked] = useState<ReadonlySet<number>>(new Set())
  const [cursor, setCursor] = useState(0)
  const anchor = useRef(0)
  const { list, all } = f
  const size: Size = params.get('size') === 'small' ? 'small' : 'large'
  const scaled = params.get('scale') === 'one'
  const [least, high, text] = sizes[size]
  const across = Math.max(1, Math.floor((width - 24 + 8) / (least + 8)))
  const lines = useVirtualizer({
    count: Math.ceil(list.length / across),
    getScrollElement: () => box.current,
    estimateSize: useCallback(() => high + text + 8, [high, text]),
    paddingStart: 12,
    paddingEnd: 12,
    overscan: 3,
  })
  const widest = Math.max(...list.map((x) => x.reach ?? 0), 0)
  const chosen = list.filter((x) => picked.has(x.id))
  const open = (x: S['Brief']) => void go(`/p/${project}/finds/${x.id}${lasting({ q: f.words })}`)

  const range = (to: number) => {
    const [a, b] = [Math.min(anchor.current, to), Math.max(anchor.current, to)]
    setPicked(new Set([...picked, ...list.slice(a, b + 1).map((x) => x.id)]))
  }
  const toggle = (i: number) => {
    const next = new Set(picked)
    if (!next.delete(list[i].id)) next.add(list[i].id)
    anchor.current = i
    setPicked(next)
  }
  const click = (e: MouseEvent, i: number) => {
    setCursor(i)
    if (e.shiftKey) range(i)
    else if (e.ctrlKey || e.metaKey) toggle(i)
    else open(list[i])
    e.preventDefault()
  }
  const move = (to: number, extend: boolean) => {
    const i = Math.max(0, Math.min(list.length - 1, to))
    if (extend) range(i)
    else anchor.current = i
    setCursor(i)
    lines.scrollToIndex(Math.floor(i / across))
    // The card may have to be drawn first.
    requestAnimationFrame(() => box.current?.querySelector<HTMLElement>(`[data-card="${i}"] a`)?.focus())
  }
  const keys = (e: KeyboardEvent) => {
    const by = { ArrowRight: 1, ArrowLeft: -1, ArrowDown: across, ArrowUp: -across }[e.key]
    if (by) move(cursor + by, e.shiftKey)
    else if (e.key === 'Home') move(0, e.shiftKey)
    else if (e.key === 'End') move(list.length - 1, e.shiftKey)
    else if (e.key === ' ' && list[cursor]) toggle(cursor)
    else if (e.key === 'a' && (e.ctrlKey || e.metaKey)) setPicked(new Set(list.map((x) => x.id)))
    else if (e.key === 'Escape') setPicked(new Set())
    else return
    e.preventDefault()
  }
  return (
    <Page>
      <Tools>
        <h2>Finds</h2>
        <span data-finds={all?.length}>
          {all && <Tone is="soft">{shownOf(list.length, all.length)}</Tone>}
        </span>
        {(all?.length ?? 0) > 1 && <FilterBar f={f} />}
        <span className="grow" />
        <ToggleButtonGroup
          exclusive
          size="small"
          value={scaled ? 'one' : 'own'}
          aria-label="Scale of the pictures"
          onChange={(_, v: string | null) => v && put({ scale: v === 'one' ? v : '' })}
        >
          <ToggleButton value="own" title="Each asset fills its picture">
            Each fills
          </ToggleButton>
          <ToggleButton
            value="one"
            title={widest ? `A picture is ${metres(widest)} wide` : 'No asset has a known size'}
          >
            One scale
          </ToggleButton>
        </ToggleButtonGroup>
        <ToggleButtonGroup
          exclusive
          size="small"
          value={size}
          aria-label="Size of the pictures"
          onChange={(_, v: string | null) => v && put({ size: v === 'small' ? v : '' })}
        >
          <ToggleButton value="large">Large</ToggleButton>
          <ToggleButton value="small">Small</ToggleButton>
        </ToggleButtonGroup>
        <Button
          title="Every entry of the sources that is a model becomes a find"
          onClick={() => act(() => findAll(project, {}))}
        >
          Decode every model
        </Button>
      </Tools>
      <Fault error={f.error ?? fault} />
      <Box ref={box} onKeyDown={keys}>
        <div style={{ height: lines.getTotalSize() }}>
          {lines.getVirtualItems().map((line) => (
            <Line
              key={line.key}
              style={{
                transform: `translateY(${line.start}px)`,
                gridTemplateColumns: `repeat(${across}, minmax(0, 1fr))`,
              }}
            >
              {list.slice(line.index * across, (line.index + 1) * across).map((x, k) => {
                const i = line.index * across + k
                return (
                  <Card
                    key={x.id}
                    className={`${size} ${picked.has(x.id) ? 'on' : ''}`}
                    data-card={i}
                    data-find={x.name}
                    data-state={x.state}
                    style={{ height: high + text }}
                  >
                    {/* The name is the link; the picture opens the find as well. */}
                    {/* eslint-disable-next-line jsx-a11y/click-events-have-key-events, jsx-a11y/no-static-element-interactions */}
                    <div className="picture" style={{ height: high }} onClick={(e) => click(e, i)}>
                      {x.scene && (
                        <img
                          src={thumb(x.scene)}
                          alt=""
                          loading="lazy"
                          style={scaled && widest ? { transform: `scale(${scaleOf(x, widest)})` } : undefined}
                        />
                      )}
                    </div>
                    <input
                      type="checkbox"
                      aria-label={`Choose ${x.name}`}
                      checked={picked.has(x.id)}
                      tabIndex={-1}
                      onChange={() => toggle(i)}
                    />
                    <div className="says">
                      <a
                        href={`/p/${project}/finds/${x.id}`}
                        title={`${x.name}, ${x.source}: ${x.path}`}
                        tabIndex={i === cursor ? 0 : -1}
                        onFocus={() => setCursor(i)}
                        onClick={(e) => click(e, i)}
                      >
                        {x.name}
                      </a>
                      {size === 'large' && <span>{figuresOf(x) || x.source}</span>}
                      {scaled && x.state === 'ready' && x.reach == null ? (
                        <Tone is="soft">size not known</Tone>
                      ) : (
                        <StateOf x={x} />
                      )}
                    </div>
                  </Card>
                )
              })}
            </Line>
          ))}
        </div>
        {all?.length === 0 && (
          <Empty>
            <b>Nothing found yet</b>
            Choose a model in <Link to={`/p/${project}/sources`}>Sources</Link> and make it a find, or let
            every model be decoded with the button above.
          </Empty>
        )}
        {all && all.length > 0 && list.length === 0 && (
          <Empty>
            <b>No find fits</b>Of {plural(all.length, 'find')} none has these words, this state and these
            figures. <TextButton onClick={f.clear}>Show all</TextButton>
          </Empty>
        )}
      </Box>
      <div>
        <TakenOut project={project} kind="find" />
        {list.length > 0 &&
          (chosen.length > 0 ? (
            <Together project={project} chosen={chosen} onDone={() => setPicked(new Set())} />
          ) : (
            <Tools>
              <Tone is="soft">
                Open a find by its name or picture. Choose several with their boxes, Ctrl or Shift, or with
                the space bar, to act on them together.
              </Tone>
              <span className="grow" />
              <Button onClick={() => setPicked(new Set(list.map((x) => x.id)))}>
                Choose all {count(list.length)}
              </Button>
            </Tools>
          ))}
      </div>
    </Page>
  )
}

/** How large an asset is drawn where all have one scale; the smallest can still be seen. */
const scaleOf = (x: S['Brief'], widest: number) => (x.reach == null ? 1 : Math.max(0.04, x.reach / widest))
