// Small hooks that more than one part needs.
import { useEffect, useLayoutEffect, useRef, useState, useSyncExternalStore } from 'react'

/** The newest value, for what is called later: a timer, a listener, another library. */
export function useLatest<T>(value: T) {
  const latest = useRef(value)
  useLayoutEffect(() => {
    latest.current = value
  })
  return latest
}

/** State that begins anew when what it is about changes. */
export function useStateOf<T>(of: unknown, initial: T): [T, (v: T) => void] {
  const [held, setHeld] = useState({ of, v: initial })
  return [Object.is(held.of, of) ? held.v : initial, (v) => setHeld({ of, v })]
}

/** What useHeld shows: the newest of what was chosen here and what the address came to name by itself. */
class Held<T> {
  private under: T[] = [] // written to the address, which does not name it yet
  private timer = 0
  private told = () => {}
  constructor(private v: T) {}

  read = () => this.v
  listen = (told: () => void) => {
    this.told = told
    return () => window.clearTimeout(this.timer)
  }

  choose(v: T, pause: number, write: (v: T) => void) {
    this.v = v
    this.told()
    window.clearTimeout(this.timer)
    this.timer = window.setTimeout(() => {
      this.under.push(v)
      write(v)
    }, pause)
  }

  /** The address names v now: what was written from here, perhaps before the last choice, or another's. */
  named(v: T) {
    const back = this.under.indexOf(v)
    this.under.splice(0, back < 0 ? Infinity : back + 1)
    if (back >= 0 || v === this.v) return
    window.clearTimeout(this.timer)
    this.v = v
    this.told()
  }
}

/**
 * A value of the address that is held here while it changes quickly; the address
 * follows when it pauses. The router tells of a new address late when much is to
 * be drawn, so that an older one may arrive after a newer choice: it does not undo it.
 */
export function useHeld<T extends string | number>(
  named: T,
  write: (v: T) => void,
  pause = 150,
): [T, (v: T) => void] {
  const [held] = useState(() => new Held(named))
  const latest = useLatest(write)
  useLayoutEffect(() => held.named(named), [held, named])
  return [
    useSyncExternalStore(held.listen, held.read),
    (v) => held.choose(v, pause, (x) => latest.current(x)),
  ]
}

/** An address for bytes that are here, as long as they are shown. */
export function useObjectUrl(blob?: Blob): string {
  const [url, setUrl] = useState('')
  useEffect(() => {
    const u = blob ? URL.createObjectURL(blob) : ''
    // The address is a thing outside, made and let go with the effect.
    // eslint-disable-next-line react-hooks/set-state-in-effect
    setUrl(u)
    return () => URL.revokeObjectURL(u)
  }, [blob])
  return url
}

/** A value a little after it changed last. */
export function useLater<T>(value: T, ms: number) {
  const [late, setLate] = useState(value)
  useEffect(() => {
    const t = setTimeout(() => setLate(value), ms)
    return () => clearTimeout(t)
  }, [value, ms])
  return late
}
