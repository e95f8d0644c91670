// How elements are made: as React makes them, but that marks which turn text
// round are shown instead of obeyed. Names come from files that others made,
// and with such a mark gpj.exe reads as exe.jpg. This is the one place that
// every text of every screen passes; what is typed into a field is left alone.
import * as react from 'react/jsx-runtime'

const turning = /[\u200e\u200f\u061c\u202a-\u202e\u2066-\u2069]/
const every = new RegExp(turning, 'g')

/** A text with each turning mark as its code point, such as ‹U+202E›. */
const harmless = (t: string) =>
  turning.test(t)
    ? t.replace(every, (c) => `‹U+${c.charCodeAt(0).toString(16).toUpperCase().padStart(4, '0')}›`)
    : t

type Props = Record<string, unknown>

function tamed(props: unknown): unknown {
  const p = props as Props
  let next = p
  for (const k of ['children', 'title', 'aria-label', 'alt', 'placeholder']) {
    const v = p[k]
    const w =
      typeof v === 'string'
        ? harmless(v)
        : k === 'children' && Array.isArray(v) && v.some((x) => typeof x === 'string' && turning.test(x))
          ? v.map((x: unknown) => (typeof x === 'string' ? harmless(x) : x))
          : v
    if (w !== v) {
      if (next === p) next = { ...p }
      next[k] = w
    }
  }
  return next
}

export const Fragment = react.Fragment
export const jsx: typeof react.jsx = (type, props, key) => react.jsx(type, tamed(props), key)
export const jsxs: typeof react.jsxs = (type, props, key) => react.jsxs(type, tamed(props), key)
export type { JSX } from 'react'
