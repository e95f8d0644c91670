// The row under the cursor of the entry table: moved by mouse and keyboard, and
// by an address that names an entry.
import { useQueryClient } from '@tanstack/react-query'
import { useEffect, useRef, type KeyboardEvent, type MouseEvent } from 'react'
import { pictureUrl, previewOf } from '../../api/entries'
import { useStateOf } from '../../parts/hooks'
import type { Put } from '../../parts/address'
import { choiceOf, type Choice } from './choice'
import { foldersOf, type Line, type Lines, type Listing } from './lines'

const AHEAD = 8_000_000 // bytes: larger neighbours are not fetched before they are asked for

export function useWalk(x: Listing, lines: Lines, choice: Choice, entry: number, put: Put) {
  const client = useQueryClient()
  const { filter, view, sort } = x
  const about = JSON.stringify([filter, view, sort])
  const [cursor, setCursor] = useStateOf(about, -1)
  const anchor = useRef(-1) // where a range begins
  const ahead = useRef(0)
  const { rows } = lines
  useEffect(() => {
    rows.scrollElement?.scrollTo(0, 0)
  }, [about, rows])

  // An address with an entry: its place is asked for once, and comes too late
  // if another row was gone to meanwhile.
  const placed = useRef(0)
  const moved = useRef(0)
  const { data } = lines.first
  useEffect(() => {
    if (!entry || placed.current === entry || view === 'tree' || view === 'sets' || !data) return
    placed.current = entry
    const before = moved.current
    void lines
      .placeOf(entry)
      .then((i) => {
        if (i < 0 || moved.current !== before) return
        setCursor(i)
        anchor.current = i
        rows.scrollToIndex(i)
      })
      .catch(() => {})
  })

  const show = (i: number, l?: Line) => {
    setCursor(i)
    const e = l?.is === 'entry' ? l.entry.id : l?.is === 'set' ? l.set.first : 0
    if (!e) return
    placed.current = e
    put({ entry: String(e) })
    window.clearTimeout(ahead.current)
    ahead.current = window.setTimeout(() => {
      // the neighbours, once this one is shown
      for (const n of [lines.at(i + 1), lines.at(i - 1)]) {
        if (n?.is !== 'entry' || n.entry.size > AHEAD) continue
        void client.prefetchQuery(previewOf(x.project, n.entry.id))
        if (n.entry.kind === 'picture') new Image().src = pictureUrl(n.entry.id)
      }
    }, 30)
  }
  const range = (to: number) => {
    const [a, b] = [Math.min(Math.max(anchor.current, 0), to), Math.max(anchor.current, to)]
    setCursor(to)
    void lines.between(a, b).then((l) => choice.choose(choiceOf(l)))
  }
  const openFolder = (folder: string, on: boolean) => {
    const open = foldersOf(x.open)
    const left = on ? [...open, folder] : open.filter((f) => f !== folder && !f.startsWith(`${folder}/`))
    put({ open: left.join('|') })
  }
  const only = (i: number, l: Line) => {
    anchor.current = i
    choice.choose(choiceOf([l]))
    show(i, l)
  }

  const click = (e: MouseEvent, i: number, l: Line) => {
    moved.current++
    if (e.shiftKey) range(i)
    else if (e.ctrlKey || e.metaKey) {
      anchor.current = i
      choice.toggle(l)
      setCursor(i)
    } else {
      only(i, l)
      if (l.is === 'folder') openFolder(l.folder, !l.open)
    }
  }
  const go = (to: number, extend: boolean) => {
    const i = Math.min(Math.max(to, 0), lines.total - 1),
      l = lines.at(i)
    if (i < 0) return
    moved.current++
    rows.scrollToIndex(i)
    if (!l) setCursor(i)
    else if (extend) range(i)
    else only(i, l)
  }
  const here = lines.at(cursor)
  /** What a key does in the list; false if nothing. */
  const press = (e: KeyboardEvent): boolean => {
    const by = { ArrowDown: 1, ArrowUp: -1, PageDown: 15, PageUp: -15 }[e.key]
    if (by) go(cursor + by, e.shiftKey)
    else if (e.key === 'Home') go(0, e.shiftKey)
    else if (e.key === 'End') go(lines.total - 1, e.shiftKey)
    else if (e.key === 'a' && (e.ctrlKey || e.metaKey)) choice.chooseAll()
    else if (e.key === ' ' && here) choice.toggle(here)
    else if (e.key === 'Escape') choice.choose({})
    else if (here?.is === 'folder' && ['ArrowRight', 'ArrowLeft', 'Enter'].includes(e.key))
      openFolder(here.folder, e.key === 'Enter' ? !here.open : e.key === 'ArrowRight')
    else return false
    return true
  }
  return { cursor, click, press, next: () => go(cursor < 0 ? 0 : cursor + 1, false) }
}
