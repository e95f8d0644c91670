// Saves a find in another format, and says first what that cannot carry.
import { Button, Dialog, DialogContent, DialogTitle } from '@mui/material'
import { useQueries } from '@tanstack/react-query'
import { useState } from 'react'
import { api, ok, useFormats } from '../api/client'
import { Fault } from './bits'
import { plural } from './format'

export function SaveAs({ find, name }: { find: number; name: string }) {
  const [open, setOpen] = useState(false)
  const { data: formats, error } = useFormats(open)
  const list = (open ? (formats ?? []) : []).filter((f) => f.writes)
  const notes = useQueries({
    queries: list.map((f) => ({
      queryKey: ['carried', find, f.name],
      queryFn: () =>
        ok(
          api.GET('/api/finds/{find}/file/notes', { params: { path: { find }, query: { format: f.name } } }),
        ),
    })),
  })
  return (
    <>
      <Button onClick={() => setOpen(true)}>Save as…</Button>
      <Dialog open={open} onClose={() => setOpen(false)} fullWidth maxWidth="sm">
        <DialogTitle>Save {name}</DialogTitle>
        <DialogContent>
          <Fault error={error} />
          {list.map((f, i) => {
            const x = notes[i]?.data
            return (
              <div className="item row between" key={f.name} data-format={f.name}>
                <div className="grow">
                  <b>{f.title}</b> <span className="soft">{f.ending}</span>
                  {!x ? (
                    <small className="soft">
                      {notes[i]?.error ? String(notes[i].error) : 'asking what it can carry…'}
                    </small>
                  ) : x.refused ? (
                    <small className="bad">{x.refused}</small>
                  ) : x.notes.length === 0 ? (
                    <small className="ok">everything is carried</small>
                  ) : (
                    x.notes.map((n) => (
                      <small key={n} className="warn">
                        {n}
                      </small>
                    ))
                  )}
                </div>
                <Button
                  component="a"
                  disabled={!!x?.refused}
                  href={`/api/finds/${find}/file?format=${f.name}`}
                  aria-label={`Save as ${f.title}, ${x?.notes.length ? `without ${plural(x.notes.length, 'thing')}` : 'whole'}`}
                >
                  Save
                </Button>
              </div>
            )
          })}
        </DialogContent>
      </Dialog>
    </>
  )
}
