// Saves a find in another format, and says first what that cannot carry.
import { Button, Dialog, DialogContent, DialogTitle } from '@mui/material'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { api, ok } from '../api/client'
import { Fault } from './bits'
import { plural } from './format'

export function SaveAs({ find, name }: { find: number; name: string }) {
  const [open, setOpen] = useState(false)
  const { data, error, isLoading } = useQuery({ queryKey: ['saveas', find], enabled: open, queryFn: () => ok(api.GET('/api/finds/{find}/file/notes', { params: { path: { find } } })) })
  return (<>
    <Button onClick={() => setOpen(true)}>Save as…</Button>
    <Dialog open={open} onClose={() => setOpen(false)} fullWidth maxWidth="sm">
      <DialogTitle>Save {name}</DialogTitle>
      <DialogContent>
        <Fault error={error} />
        {isLoading && <p className="soft">Asking what each format can carry…</p>}
        {data?.map((f) => (
          <div className="item row between" key={f.name} data-format={f.name}>
            <div className="grow"><b>{f.title}</b> <span className="soft">{f.ending}</span>{f.notes.length === 0 ? <small className="ok">everything is carried</small> : f.notes.map((n) => <small key={n} className="warn">{n}</small>)}</div>
            <Button component="a" href={`/api/finds/${find}/file?format=${f.name}`} aria-label={`Save as ${f.title}, ${f.notes.length ? `without ${plural(f.notes.length, 'thing')}` : 'whole'}`}>Save</Button>
          </div>
        ))}
      </DialogContent>
    </Dialog>
  </>)
}
