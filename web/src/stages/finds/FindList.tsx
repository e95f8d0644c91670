// The finds beside the one that is open: the same ones as in the grid.
import { styled } from '@mui/material'
import { useVirtualizer } from '@tanstack/react-virtual'
import { useEffect, useRef } from 'react'
import { Link, useNavigate } from 'react-router'
import { thumb } from '../../api/scenes'
import { lasting } from '../../parts/address'
import { Fault } from '../../parts/bits'
import { Head } from '../../parts/Head'
import { plural } from '../../parts/format'
import { TextButton } from '../../parts/TextButton'
import { Tone } from '../../parts/Tone'
import { figuresOf, shownOf, StateOf } from './brief'
import { FilterBar } from './FilterBar'
import { useFiltered } from './filter'

const ROW = 90

const Rows = styled('div')({ overflow: 'auto', flex: 1, minHeight: 0, position: 'relative' })

const Row = styled('div')({
  position: 'absolute',
  top: 0,
  left: 0,
  right: 0,
  height: ROW,
  display: 'flex',
  gap: 10,
  padding: '9px 14px',
  overflow: 'hidden',
  cursor: 'pointer',
  borderBottom: '1px solid var(--thin)',
  fontSize: 12,
  '&[aria-selected="true"]': { background: 'var(--verdiT)', boxShadow: 'inset 4px 0 var(--verdi)' },
  '& img, & .none': { width: 64, height: 64, flex: 'none' },
  '& .says': { minWidth: 0, flex: 1, color: 'var(--soft)' },
  '& .says > *': { display: 'block', overflow: 'hidden', textOverflow: 'ellipsis', whiteSpace: 'nowrap' },
  '& b': { fontWeight: 600, fontSize: 14, color: 'var(--ink)' },
})

const None = styled('div')({ padding: '24px 18px', color: 'var(--soft)', fontSize: 14 })

export function FindList({ project, chosen }: { project: number; chosen: number }) {
  const f = useFiltered(project)
  const go = useNavigate()
  const box = useRef<HTMLDivElement>(null)
  const { list } = f
  const rows = useVirtualizer({
    count: list.length,
    getScrollElement: () => box.current,
    estimateSize: () => ROW,
    overscan: 6,
  })
  const at = list.findIndex((x) => x.id === chosen)
  useEffect(() => {
    if (at >= 0) rows.scrollToIndex(at, { align: 'auto' })
  }, [at, rows])
  const show = (i: number) => {
    const x = list[Math.max(0, Math.min(i, list.length - 1))]
    if (x && x.id !== chosen) void go(`/p/${project}/finds/${x.id}${lasting()}`, { replace: true })
  }
  return (
    <>
      <Head
        title="Finds"
        end={
          <span data-finds={f.all?.length}>
            {f.all && <Tone is="soft">{shownOf(list.length, f.all.length)}</Tone>}{' '}
            <Link to={`/p/${project}/finds${lasting()}`}>All as a grid</Link>
          </span>
        }
      />
      {(f.all?.length ?? 0) > 1 && <FilterBar f={f} narrow />}
      <Fault error={f.error} />
      <Rows
        ref={box}
        tabIndex={0}
        role="listbox"
        aria-label="Finds"
        aria-activedescendant={at >= 0 ? `find-${chosen}` : undefined}
        onKeyDown={(e) => {
          const by = { ArrowDown: 1, ArrowUp: -1, PageDown: 6, PageUp: -6 }[e.key]
          if (!by) return
          e.preventDefault()
          show(at + by)
        }}
      >
        <div style={{ height: rows.getTotalSize() }}>
          {rows.getVirtualItems().map((r) => {
            const x = list[r.index]
            return (
              <Row
                key={x.id}
                id={`find-${x.id}`}
                role="option"
                aria-selected={x.id === chosen}
                style={{ transform: `translateY(${r.start}px)` }}
                onClick={() => show(r.index)}
                data-find={x.name}
                data-state={x.state}
              >
                {x.scene ? <img src={thumb(x.scene)} alt="" loading="lazy" /> : <span className="none" />}
                <span className="says">
                  <b title={x.name}>{x.name}</b>
                  <span title={x.path}>
                    {x.source}
                    {x.bones > 0 && ` · ${plural(x.bones, 'bone')}`}
                  </span>
                  {x.state === 'ready' && <span>{figuresOf(x)}</span>}
                  <StateOf x={x} />
                </span>
              </Row>
            )
          })}
        </div>
      </Rows>
      {f.all && f.all.length > 0 && list.length === 0 && (
        <None>
          No find has these words, this state and these figures.{' '}
          <TextButton onClick={f.clear}>Show all</TextButton>
        </None>
      )}
    </>
  )
}
