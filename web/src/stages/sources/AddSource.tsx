import { Button, Dialog, DialogContent, DialogTitle, OutlinedInput } from '@mui/material'
import { useQueryClient } from '@tanstack/react-query'
import { useRef, useState } from 'react'
import { api, ok, refresh, type S } from '../../api/http'
import { useLibrary } from '../../api/sources'
import { Fault } from '../../parts/bits'
import { bytes } from '../../parts/format'

export function AddSource({
  project,
  mounted,
  onFiles,
  onClose,
}: {
  project: number
  mounted: S['Source'][]
  onFiles: (l: FileList) => void
  onClose: () => void
}) {
  const q = useQueryClient()
  const { data, error } = useLibrary(true)
  const [path, setPath] = useState('')
  const [fault, setFault] = useState<unknown>()
  const files = useRef<HTMLInputElement>(null)
  const folder = useRef<HTMLInputElement>(null)
  const add = async (p: string) => {
    try {
      await ok(
        api.POST('/api/projects/{project}/sources', { params: { path: { project } }, body: { path: p } }),
      )
      onClose()
    } catch (e) {
      setFault(e)
    }
    void refresh(q, project)
  }
  return (
    <Dialog open onClose={onClose} maxWidth="sm" fullWidth>
      <DialogTitle>Add a source</DialogTitle>
      <DialogContent>
        <form
          className="row"
          onSubmit={(e) => {
            e.preventDefault()
            void add(path)
          }}
        >
          <OutlinedInput
            fullWidth
            autoFocus
            value={path}
            onChange={(e) => setPath(e.target.value)}
            placeholder="/path/to/archive or folder"
            inputProps={{ 'aria-label': 'Path', className: 'mono', spellCheck: false }}
          />
          <Button type="submit" variant="contained" disabled={!path.trim()}>
            Add
          </Button>
        </form>
        <Fault error={fault ?? error} />
        <p className="soft small">
          A path is read where it lies. Files that you choose or drop are copied.{' '}
          <Button variant="text" onClick={() => files.current?.click()}>
            Choose files
          </Button>{' '}
          <Button variant="text" onClick={() => folder.current?.click()}>
            Choose a folder
          </Button>
        </p>
        <input
          ref={files}
          type="file"
          multiple
          hidden
          aria-label="Files"
          onChange={(e) => e.target.files?.length && onFiles(e.target.files)}
        />
        <input
          ref={(el) => {
            folder.current = el
            if (el) el.webkitdirectory = true
          }}
          type="file"
          hidden
          aria-label="Folder"
          onChange={(e) => e.target.files?.length && onFiles(e.target.files)}
        />
        {data?.length === 0 && (
          <p className="soft">
            The server was given no library folder. Start it with --library to allow one, or drop files on the
            window.
          </p>
        )}
        {data?.map((f) => (
          <div key={f.path}>
            <p className="soft small">In {f.path}</p>
            <table>
              <tbody>
                {f.items.map((it) => {
                  const there = mounted.some((m) => m.path === it.path && !m.parent)
                  return (
                    <tr key={it.path} data-library={it.name}>
                      <td>
                        {it.name}
                        {it.folder && '/'}
                      </td>
                      <td className="n soft">{it.folder ? 'folder' : bytes(it.size)}</td>
                      <td className="n">
                        {there ? (
                          <span className="tag g">mounted</span>
                        ) : (
                          <Button onClick={() => void add(it.path)} aria-label={`Add ${it.name}`}>
                            Add
                          </Button>
                        )}
                      </td>
                    </tr>
                  )
                })}
              </tbody>
            </table>
          </div>
        ))}
      </DialogContent>
    </Dialog>
  )
}
