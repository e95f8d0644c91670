// What is chosen in the entry table. The address names it once the hand rests.
import { useEffect, useRef, useState } from 'react'
import { keepSelection, keptSelection } from '../../api/extractions'
import type { S } from '../../api/http'
import type { Put } from '../../parts/address'
import { useLatest } from '../../parts/hooks'
import type { Line } from './lines'

/** What is chosen: entries by name, or all that fit a filter but for some. */
export type Chosen = S['Selection']

const few = (c: Chosen) => !c.filter && !c.folders?.length && !c.sets?.length && (c.ids?.length ?? 0) < 2

/** The choice of these lines and no others. */
export const choiceOf = (lines: Line[]): Chosen => ({
  ids: lines.flatMap((l) => (l.is === 'entry' ? [l.entry.id] : [])),
  folders: lines.flatMap((l) => (l.is === 'folder' ? [l.folder] : [])),
  sets: lines.flatMap((l) => (l.is === 'set' ? [l.set.key] : [])),
})

const flip = <T>(list: T[] | undefined, x: T) =>
  list?.includes(x) ? list.filter((y) => y !== x) : [...(list ?? []), x]

export function useChoice(project: number, filter: S['Filter'], sel: string, put: Put) {
  const [chosen, setChosen] = useState<Chosen>({})
  // How often something was chosen by hand: what comes late of before counts no more.
  const hand = useRef(0)
  // The choices that were written to the address from here. The router tells of an
  // address late when much is to be drawn: one of these is never read back.
  const mine = useRef(new Set<string>())
  const latest = useLatest(put)
  useEffect(() => {
    if (!sel || mine.current.has(sel)) return
    const then = hand.current
    void keptSelection(project, sel)
      .then((s) => hand.current === then && setChosen(s.selection))
      .catch(() => hand.current === then && latest.current({ sel: '' }))
  }, [project, sel, latest])
  const saving = useRef(0)
  const choose = (c: Chosen) => {
    const now = ++hand.current
    setChosen(c)
    window.clearTimeout(saving.current)
    saving.current = window.setTimeout(() => {
      if (few(c)) {
        put({ sel: '' }) // one entry has its own address
        return
      }
      void keepSelection(project, c)
        .then((s) => {
          mine.current.add(s.digest)
          if (hand.current === now) put({ sel: s.digest })
        })
        .catch(() => {})
    }, 250)
  }
  const everything = chosen.filter && JSON.stringify(chosen.filter) === JSON.stringify(filter)
  return {
    chosen,
    choose,
    chooseAll: () => choose({ filter }),
    has: (l: Line) => {
      if (l.is === 'entry')
        return (
          (everything && !chosen.except?.includes(l.entry.id)) ||
          !!chosen.ids?.includes(l.entry.id) ||
          !!chosen.folders?.some((f) => l.entry.path.startsWith(`${f}/`))
        )
      if (l.is === 'folder') return everything || !!chosen.folders?.includes(l.folder)
      return everything || !!chosen.sets?.includes(l.set.key)
    },
    toggle: (l: Line) => {
      if (l.is === 'folder') choose({ ...chosen, folders: flip(chosen.folders, l.folder) })
      else if (l.is === 'set') choose({ ...chosen, sets: flip(chosen.sets, l.set.key) })
      else if (everything) choose({ ...chosen, except: flip(chosen.except, l.entry.id) })
      else choose({ ...chosen, ids: flip(chosen.ids, l.entry.id) })
    },
  }
}
export type Choice = ReturnType<typeof useChoice>
