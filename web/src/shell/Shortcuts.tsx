// Keys that work on every page, and the list of them.
import { Dialog, DialogContent, DialogTitle, Table, TableBody, TableCell, TableRow } from '@mui/material'
import { useEffect } from 'react'
import { useNavigate } from 'react-router'
import { shortcuts, stages } from '../pages'
import { Text } from '../parts/Text'
import type { Work } from '../parts/work'
import { placeOf, searchPlace } from './places'

/** Whether keys are text here, or another thing's own. */
const typing = (t: HTMLElement) =>
  t.isContentEditable ||
  !!t.closest('input:not([type="range"]), textarea, [role="combobox"], [role="dialog"]')

/** The keys that lead somewhere: the stages, the search, the list of shortcuts. */
export function useShortcuts(project: number | undefined, work: Work, help: () => void) {
  const go = useNavigate()
  useEffect(() => {
    const key = (e: KeyboardEvent) => {
      if (e.ctrlKey || e.metaKey || e.altKey || typing(e.target as HTMLElement)) return
      if (e.key === '?') help()
      if (!project) return
      const stage = stages[Number(e.key) - 1]
      if (stage) void go(placeOf(project, stage, work))
      else if (e.key === '/') {
        e.preventDefault()
        const field = document.getElementById('search')
        if (field) field.focus()
        else void go(searchPlace(project), { state: { search: true } })
      }
    }
    window.addEventListener('keydown', key)
    return () => window.removeEventListener('keydown', key)
  }, [project, work, help, go])
}

export function Shortcuts({ open, onClose }: { open: boolean; onClose: () => void }) {
  return (
    <Dialog open={open} onClose={onClose} aria-labelledby="shortcuts">
      <DialogTitle id="shortcuts">Shortcuts</DialogTitle>
      <DialogContent>
        <Table size="small" aria-label="Shortcuts">
          <TableBody>
            {shortcuts.map(([k, v]) => (
              <TableRow key={k}>
                <TableCell>
                  <kbd>{k}</kbd>
                </TableCell>
                <TableCell>{v}</TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
        <Text as="p" tone="soft" small>
          <a href="/api/notices" target="_blank" rel="noreferrer">
            Version, and the licences of all that is in Excavate
          </a>
        </Text>
      </DialogContent>
    </Dialog>
  )
}
