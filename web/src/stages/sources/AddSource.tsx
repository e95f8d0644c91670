// Adds a source: by path, from the library folders, or by choosing files. Where
// it is opened for names that are missing, what holds them comes first.
import {
  Button,
  Dialog,
  DialogContent,
  DialogTitle,
  OutlinedInput,
  styled,
  Table,
  TableBody,
  TableCell,
  TableRow,
} from '@mui/material'
import { useQueryClient } from '@tanstack/react-query'
import { useRef, useState } from 'react'
import { refresh, useAct } from '../../api/http'
import { addSource, useLibrary } from '../../api/sources'
import { Fault } from '../../parts/bits'
import { bytes, named, plural } from '../../parts/format'
import { Tag } from '../../parts/Tag'
import { TextButton } from '../../parts/TextButton'
import { Tone } from '../../parts/Tone'
import { takeIn } from '../../parts/upload'

const Row = styled('form')({ display: 'flex', gap: 8, alignItems: 'center' })

export function AddSource({
  project,
  wanted = [],
  onClose,
}: {
  project: number
  /** Names that are missing. */
  wanted?: string[]
  /** label is that of the source that was added. */
  onClose: (label?: string) => void
}) {
  const q = useQueryClient()
  const { data, error } = useLibrary(project, wanted)
  const { act, fault, busy } = useAct(project)
  const [path, setPath] = useState('')
  const files = useRef<HTMLInputElement>(null)
  const folder = useRef<HTMLInputElement>(null)
  const add = (p: string) =>
    act(
      () => addSource(project, p),
      (s) => onClose(s.label),
    )
  const bring = (list: FileList | null) => {
    if (!list?.length) return
    takeIn(project, list, () => void refresh(q, project))
    onClose(list[0].name)
  }
  return (
    <Dialog open onClose={() => onClose()} maxWidth="sm" fullWidth aria-labelledby="add-source">
      <DialogTitle id="add-source">Add a source</DialogTitle>
      <DialogContent>
        {wanted.length > 0 && (
          <p data-wanted={wanted.length}>
            {plural(wanted.length, 'name is', 'names are')} missing: {named(wanted, 4)}.
          </p>
        )}
        <Row
          onSubmit={(e) => {
            e.preventDefault()
            add(path)
          }}
        >
          <OutlinedInput
            fullWidth
            value={path}
            onChange={(e) => setPath(e.target.value)}
            placeholder="/path/to/archive or folder"
            inputProps={{ 'aria-label': 'Path', className: 'mono', spellCheck: false }}
          />
          <Button type="submit" variant="contained" disabled={!path.trim() || busy}>
            Add
          </Button>
        </Row>
        <Fault error={fault ?? error} />
        <p>
          <Tone is="soft">A path is read where it lies. Files that you choose or drop are copied.</Tone>{' '}
          <TextButton onClick={() => files.current?.click()}>Choose files</TextButton>{' '}
          <TextButton onClick={() => folder.current?.click()}>Choose a folder</TextButton>
        </p>
        <input
          ref={files}
          type="file"
          multiple
          hidden
          aria-label="Files"
          onChange={(e) => bring(e.target.files)}
        />
        <input
          ref={(el) => {
            folder.current = el
            if (el) el.webkitdirectory = true
          }}
          type="file"
          hidden
          aria-label="Folder"
          onChange={(e) => bring(e.target.files)}
        />
        {!data && !error && (
          <p>
            {wanted.length > 0
              ? 'The library is being looked through for what is missing…'
              : 'Opening the library…'}
          </p>
        )}
        {data?.length === 0 && (
          <p>
            The server was given no library folder. Start it with --library to allow one, or drop files on the
            window.
          </p>
        )}
        {data?.map((f) => (
          <div key={f.path}>
            <p>
              <Tone is="soft">In {f.path}</Tone>
            </p>
            <Table size="small" aria-label={`What lies in ${f.path}`}>
              <TableBody>
                {f.items.map((it) => (
                  <TableRow key={it.path} data-library={it.name} data-holds={it.holds.length}>
                    <TableCell>
                      {it.name}
                      {it.folder && '/'}
                      {it.holds.slice(0, 4).map((h) => (
                        <div key={h.name}>
                          <Tone is="good">holds {h.path}</Tone> <Tone is="soft">({h.how})</Tone>
                        </div>
                      ))}
                    </TableCell>
                    <TableCell align="right">{it.folder ? 'folder' : bytes(it.size)}</TableCell>
                    <TableCell align="right">
                      {it.mounted ? (
                        <Tag tone="good">mounted</Tag>
                      ) : (
                        <Button
                          variant={it.holds.length > 0 ? 'contained' : 'outlined'}
                          disabled={busy}
                          onClick={() => add(it.path)}
                          aria-label={`Add ${it.name}`}
                        >
                          Add
                        </Button>
                      )}
                    </TableCell>
                  </TableRow>
                ))}
              </TableBody>
            </Table>
          </div>
        ))}
      </DialogContent>
    </Dialog>
  )
}
