// The byte workbench: bytes of which nothing is known, what they look like,
// and what they give when they are read as something.
import { useLayoutEffect, useRef, useState } from 'react'
import { useNavigate, useParams } from 'react-router'
import { useStrip } from '../api/entries'
import { useAddress } from '../parts/address'
import { Fault } from '../parts/bits'
import { useProjectId } from '../parts/project'
import { Keep } from './bytes/Keep'
import { Pane } from '../parts/Pane'
import { Bench } from '../parts/Bench'
import { Panes } from '../parts/Panes'
import { useHeld, useStateOf } from '../parts/hooks'
import { ROW } from './bytes/offset'
import { Strip } from './bytes/Strip'
import { Finder } from './bytes/Finder'
import { View, ROWS } from './bytes/View'
import { Values } from './bytes/Values'
import { Trials } from './bytes/Trials'

export function Bytes() {
  const project = useProjectId()
  const entry = Number(useParams().entry)
  const go = useNavigate()
  const [params, put] = useAddress()
  const whole = useStrip(entry)
  const size = whole.data?.size ?? 0
  // What is chosen is held here, so that keys that follow each other quickly
  // all count; the address follows.
  const named = `${Number(params.get('at') ?? 0)} ${Math.max(1, Number(params.get('n') ?? 1))}`
  const [chosen, setChosen] = useHeld(named, (v) => {
    const [to, n] = v.split(' ').map(Number)
    put({ at: to, n: n > 1 ? n : '' })
  })
  // Keys may come before what they choose is drawn.
  const now = useRef(chosen)
  useLayoutEffect(() => {
    now.current = chosen
  })
  const [wanted, length] = chosen.split(' ').map(Number)
  const at = size > 0 ? Math.min(wanted, size - 1) : wanted
  const [rows, setRows] = useState(ROWS)
  const last = Math.max(0, Math.ceil(size / ROW) - rows)
  const [scrolled, setTop] = useStateOf<number | undefined>(entry, undefined)
  // Until it is scrolled, what the address names is shown; the size comes after the first draw.
  const top = scrolled ?? Math.max(0, Math.min(Math.floor(at / ROW) - 4, last))
  // The places that were jumped from, and those that were gone back from.
  const [back, setBack] = useState<number[]>([])
  const [forth, setForth] = useState<number[]>([])
  const [fault, setFault] = useState<unknown>()
  const [describing, setDescribing] = useState(false)
  const select = (from: number, n: number, jump = false) => {
    const to = size > 0 ? Math.min(Math.max(0, from), size - 1) : Math.max(0, from) // the size may still be on its way
    if (jump) {
      setBack([...back, at])
      setForth([])
    }
    now.current = `${to} ${Math.max(1, n)}`
    setChosen(now.current)
    const row = Math.floor(to / ROW)
    const out = row < top || row >= top + rows
    setTop(out ? Math.max(0, size > 0 ? Math.min(row - 4, last) : row - 4) : top)
  }
  const travel = (back: boolean, from: number[], to: number[]) => {
    const n = from[from.length - 1]
    if (n === undefined) return
    const [less, more] = [from.slice(0, -1), [...to, at]]
    setBack(back ? less : more)
    setForth(back ? more : less)
    select(n, 1)
  }
  return (
    <Bench>
      <Strip
        strip={whole.data}
        at={at}
        entry={entry}
        onGo={(n) => select(n, 1, true)}
        onClose={() => void go(`/p/${project}/sources?entry=${entry}`)}
        onDescribe={() => setDescribing(!describing)}
      />
      {describing && (
        <div className="stripe">
          <Keep entry={entry} plain trial={{}} />
        </div>
      )}
      <Fault error={whole.error ?? fault} />
      <Panes id="bytes" widths={[{ of: 592, least: 592 }, 'rest']} labels={['bytes', 'trials']}>
        <Pane column>
          <Finder
            at={at}
            size={size}
            entry={entry}
            onGo={(n, len) => select(n, len ?? 1, true)}
            onFault={setFault}
            canBack={back.length > 0}
            canForth={forth.length > 0}
            onBack={() => travel(true, back, forth)}
            onForth={() => travel(false, forth, back)}
          />
          <View
            entry={entry}
            size={size}
            top={top}
            setTop={setTop}
            at={at}
            length={length}
            now={() => now.current.split(' ').map(Number)}
            select={select}
            onRows={setRows}
          />
          <Values entry={entry} at={at} length={length} size={size} onFollow={(n) => select(n, 1, true)} />
        </Pane>
        <Trials
          entry={entry}
          path={whole.data?.path}
          at={at}
          length={length}
          size={size}
          onGo={(n, len) => select(n, len, true)}
        />
      </Panes>
    </Bench>
  )
}
