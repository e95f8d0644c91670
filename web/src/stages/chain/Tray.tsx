// The inventory of a band, drawn out from below the model: things are chosen in
// it, and what is chosen is answered with rules that say the same.
import { Button, OutlinedInput, Radio, ToggleButton, ToggleButtonGroup, styled } from '@mui/material'
import { useVirtualizer } from '@tanstack/react-virtual'
import { useDeferredValue, useEffect, useMemo, useRef, useState, type KeyboardEvent } from 'react'
import type { S } from '../../api/http'
import { useProposals } from '../../api/scenes'
import { count, plural } from '../../parts/format'
import { useStateOf } from '../../parts/hooks'
import { Scroll } from '../../parts/Scroll'
import { Text } from '../../parts/Text'
import { Tools } from '../../parts/Tools'
import { heads, lines, tabs, things, type Tab } from './choice'

const Frame = styled('div')({
  borderTop: '1px solid var(--line)',
  background: 'var(--panel)',
  minHeight: 0,
  height: 300,
  containerType: 'inline-size',
  '& .halves': { display: 'grid', gridTemplateColumns: 'minmax(0, 1fr) 270px', height: '100%' },
  // Where there is little room the rules stand below the list, once something is chosen.
  '@container (max-width: 620px)': {
    '& .halves': { gridTemplateColumns: 'minmax(0, 1fr)', gridTemplateRows: 'minmax(0, 1fr) auto' },
    '& .rules': { borderLeft: 0, borderTop: '1px solid var(--line)', maxHeight: 150 },
    '& .rules.none': { display: 'none' },
    '& .line': { gridTemplateColumns: 'minmax(100px, 2fr) minmax(50px, 1fr) 64px' },
    '& .line > :nth-of-type(4)': { display: 'none' },
  },
  '& .search': { minWidth: 150 },
  '& .hint': { padding: '8px 18px', margin: 0 },
  '& .list': { display: 'flex', flexDirection: 'column', minWidth: 0, minHeight: 0 },
  '& .line': {
    position: 'absolute',
    top: 0,
    left: 0,
    right: 0,
    height: 26,
    display: 'grid',
    gridTemplateColumns: 'minmax(120px, 2fr) minmax(60px, 1fr) 84px minmax(70px, 1.3fr)',
    gap: 10,
    alignItems: 'center',
    padding: '0 18px',
    fontSize: 13,
    cursor: 'pointer',
    userSelect: 'none',
    '& > :nth-of-type(3)': { textAlign: 'right' },
    '&:hover': { background: 'var(--paper)' },
    '&.on': { background: 'var(--verdiT)', boxShadow: 'inset 4px 0 var(--verdi)' },
    '&.at': { outline: '2px solid var(--slate)', outlineOffset: -2 },
    '&.odd > :first-of-type': { color: 'var(--ochre)' },
  },
  '& .heads': { position: 'static', cursor: 'default', color: 'var(--soft)', fontSize: 12, flex: 'none' },
  '& .rules': {
    borderLeft: '1px solid var(--line)',
    display: 'flex',
    flexDirection: 'column',
    minHeight: 0,
  },
  '& .rule': {
    display: 'grid',
    gridTemplateColumns: '28px minmax(0, 1fr)',
    alignItems: 'start',
    padding: '5px 14px 5px 8px',
    cursor: 'pointer',
    borderBottom: '1px solid var(--thin)',
    overflowWrap: 'anywhere',
    '& .MuiRadio-root': { padding: 3 },
  },
})

export function Tray({
  digest,
  inventory,
  chosen,
  onChoose,
  onAct,
}: {
  digest: string
  inventory: S['Inventory']
  chosen: string[]
  onChoose: (keys: string[]) => void
  onAct: (p: S['Proposal']) => void
}) {
  const [tab, setTab] = useState<Tab>('nodes')
  const [text, setText] = useState('')
  const words = useDeferredValue(text.toLowerCase().trim())
  const all = useMemo(() => lines(inventory, tab), [inventory, tab])
  const list = useMemo(
    () => (words ? all.filter((l) => `${l.name} ${l.cells.join(' ')}`.toLowerCase().includes(words)) : all),
    [all, words],
  )
  const on = useMemo(() => new Set(chosen), [chosen])
  const [at, setAt] = useStateOf(list, 0)
  const anchor = useRef(0)
  const box = useRef<HTMLDivElement>(null)
  const virtual = useVirtualizer({
    count: list.length,
    getScrollElement: () => box.current,
    estimateSize: () => 26,
    overscan: 10,
  })
  // What is chosen in the model is shown in its tab.
  const went = useRef('')
  useEffect(() => {
    const last = chosen[chosen.length - 1] ?? ''
    if (last === went.current) return
    went.current = last
    const i = list.findIndex((l) => l.key === last)
    if (i >= 0) virtual.scrollToIndex(i, { align: 'auto' })
  }, [chosen, list, virtual])

  // What was chosen last, which two quick clicks both see.
  const now = useRef(chosen)
  const said = chosen.join(' ')
  useEffect(() => {
    now.current = said ? said.split(' ') : []
  }, [said])
  const choose = (i: number, more: boolean, range: boolean) => {
    const key = list[i].key
    const was = now.current
    const put = (keys: string[]) => onChoose((now.current = keys))
    setAt(i)
    if (range) {
      const keys = list.slice(Math.min(anchor.current, i), Math.max(anchor.current, i) + 1).map((l) => l.key)
      put([...new Set([...(more ? was : []), ...keys])])
      return
    }
    anchor.current = i
    if (more) put(was.includes(key) ? was.filter((k) => k !== key) : [...was, key])
    else put(was.includes(key) && was.length === 1 ? [] : [key])
  }
  const onKey = (e: KeyboardEvent) => {
    const to = {
      ArrowDown: at + 1,
      ArrowUp: at - 1,
      Home: 0,
      End: list.length - 1,
      PageDown: at + 8,
      PageUp: at - 8,
    }[e.key]
    if (to !== undefined && list.length) {
      const i = Math.min(list.length - 1, Math.max(0, to))
      virtual.scrollToIndex(i, { align: 'auto' })
      if (e.shiftKey) choose(i, false, true)
      else setAt(i)
    } else if (e.key === ' ' || e.key === 'Enter') choose(at, e.ctrlKey || e.metaKey || e.key === ' ', false)
    else if (e.key === 'a' && (e.ctrlKey || e.metaKey)) onChoose(list.map((l) => l.key))
    else if (e.key === 'Escape') onChoose([])
    else return
    e.preventDefault()
  }
  return (
    <Frame data-tray={tab}>
      <div className="halves">
        <div className="list">
          <Tools low>
            <ToggleButtonGroup
              size="small"
              exclusive
              value={tab}
              onChange={(_, v: Tab | null) => v && setTab(v)}
              aria-label="What is listed"
            >
              {tabs.map(([k, title]) => (
                <ToggleButton key={k} value={k}>
                  {title} {count(lines(inventory, k).length)}
                </ToggleButton>
              ))}
            </ToggleButtonGroup>
            <OutlinedInput
              className="grow search"
              value={text}
              onChange={(e) => setText(e.target.value)}
              placeholder="Search names and what is said"
              inputProps={{ 'aria-label': 'Search the inventory', spellCheck: false }}
            />
          </Tools>
          <div className="line heads">
            {heads[tab].map((h) => (
              <span key={h}>{h}</span>
            ))}
          </div>
          <Scroll
            ref={box}
            role="listbox"
            aria-label="Inventory"
            aria-multiselectable
            tabIndex={0}
            aria-activedescendant={list[at] && `tray-${list[at].key}`}
            onKeyDown={onKey}
            onClick={(e) => {
              const line = (e.target as HTMLElement).closest<HTMLElement>('[data-at]')
              if (line) choose(Number(line.dataset.at), e.ctrlKey || e.metaKey, e.shiftKey)
            }}
          >
            <div style={{ height: virtual.getTotalSize(), position: 'relative' }}>
              {virtual.getVirtualItems().map((x) => {
                const l = list[x.index]
                return (
                  <div
                    key={l.key}
                    id={`tray-${l.key}`}
                    role="option"
                    aria-selected={on.has(l.key)}
                    className={`line ${on.has(l.key) ? 'on' : ''} ${x.index === at ? 'at' : ''} ${l.warn ? 'odd' : ''}`}
                    style={{ transform: `translateY(${x.start}px)` }}
                    data-key={l.key}
                    data-at={x.index}
                    tabIndex={-1}
                    title={[l.name, ...l.cells].filter(Boolean).join(' · ')}
                  >
                    <Text clip style={{ paddingLeft: 14 * Math.min(l.depth, 9) }}>
                      {l.name}
                    </Text>
                    {l.cells.map((c, k) => (
                      <Text clip tone="soft" key={heads[tab][k + 1]}>
                        {c}
                      </Text>
                    ))}
                  </div>
                )
              })}
            </div>
            {list.length === 0 && (
              <Text as="p" tone="soft" className="hint">
                {words ? 'Nothing here is named or says that.' : 'There are none.'}
              </Text>
            )}
          </Scroll>
        </div>
        <Rules digest={digest} inventory={inventory} chosen={chosen} onAct={onAct} />
      </div>
    </Frame>
  )
}

/** The rules that say what is chosen. */
function Rules({
  digest,
  inventory,
  chosen,
  onAct,
}: {
  digest: string
  inventory: S['Inventory']
  chosen: string[]
  onAct: (p: S['Proposal']) => void
}) {
  const wanted = useMemo(() => things(inventory, chosen), [inventory, chosen])
  const { data, error } = useProposals(digest, chosen.length > 0 ? wanted : undefined)
  const [k, setK] = useStateOf(chosen.join(' '), 0)
  const list = chosen.length > 0 ? (data ?? []) : []
  return (
    <div className={`rules ${chosen.length > 0 ? '' : 'none'}`}>
      <Tools low>
        <Text tone="soft" small className="grow" data-chosen={chosen.length}>
          {chosen.length > 0
            ? `${count(chosen.length)} chosen. Rules that say so:`
            : 'Choose here or in the model'}
        </Text>
      </Tools>
      <Scroll role="radiogroup" aria-label="Rules that say what is chosen" tabIndex={-1}>
        {error && (
          <Text as="div" tone="bad" small>
            {String(error.message)}
          </Text>
        )}
        {chosen.length === 0 && (
          <Text as="p" tone="soft" small className="hint">
            Click takes one, Ctrl more, Shift all between. In the model, click a surface, or drag a box with
            Shift held. Then a rule is proposed that takes the same, here and in the next asset.
          </Text>
        )}
        {list.map((p, i) => (
          <label key={p.words} className="rule" data-proposal={i} data-words={p.words}>
            <Radio size="small" checked={i === k} onChange={() => setK(i)} name="rule" />
            <span>
              {p.words}
              <Text as="div" tone="soft" small>
                {plural(p.parts, 'part')} of {plural(p.nodes, 'node')}, {plural(p.triangles, 'triangle')}
              </Text>
              {(p.else.nodes > 0 || p.else.parts > 0) && (
                <Text as="div" tone="warn" small data-else={p.else.nodes}>
                  also {p.else.parts > 0 ? plural(p.else.parts, 'part') : plural(p.else.nodes, 'node')}, of{' '}
                  {p.elseFirst.join(', ')}
                  {p.else.nodes > p.elseFirst.length && ' …'}
                </Text>
              )}
            </span>
          </label>
        ))}
      </Scroll>
      <Tools low>
        <Button variant="contained" disabled={!list[k]} onClick={() => list[k] && onAct(list[k])}>
          Act on them
        </Button>
      </Tools>
    </div>
  )
}
