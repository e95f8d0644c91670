// Small hooks that more than one part needs.
import { useEffect, useLayoutEffect, useRef, useState } from 'react'

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

/** A value of the address that is held here while it changes quickly; the address follows when it pauses. */
export function useHeld<T extends string | number>(
  named: T,
  write: (v: T) => void,
  pause = 150,
): [T, (v: T) => void] {
  const [held, setHeld] = useState<{ v: T; seen: T; written?: T }>({ v: named, seen: named })
  // What comes back is what was written here, perhaps before the last change.
  if (named !== held.seen)
    setHeld(named === held.written ? { v: held.v, seen: named } : { ...held, v: named, seen: named })
  const later = useRef(0)
  const latest = useLatest(write)
  useEffect(() => () => window.clearTimeout(later.current), [])
  return [
    held.v,
    (v) => {
      setHeld((h) => ({ ...h, v }))
      window.clearTimeout(later.current)
      later.current = window.setTimeout(() => {
        setHeld((h) => ({ ...h, written: v }))
        latest.current(v)
      }, pause)
    },
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
