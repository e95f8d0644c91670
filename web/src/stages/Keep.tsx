// What a trial becomes: a piece of a layout, in one that is there or a new one.
import { Button, MenuItem, OutlinedInput, Select } from '@mui/material'
import { useQuery } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { useNavigate } from 'react-router'
import { api, ok } from '../api/client'
import { Fault } from '../parts/bits'
import { useProjectId } from '../Shell'

/** The marks that a new layout recognises files by: the letters or bytes that this one begins with. */
export async function marks(entry: number): Promise<{ recognise: string; magic: string; word: string }> {
  const r = await fetch(`/api/entries/${entry}/content`, { headers: { Range: 'bytes=0-7' } })
  const b = new Uint8Array(await r.arrayBuffer())
  let n = 0
  while (
    n < b.length &&
    n < 4 &&
    ((b[n] >= 65 && b[n] <= 90) || (b[n] >= 97 && b[n] <= 122) || (b[n] >= 48 && b[n] <= 57))
  )
    n++
  if (n >= 2) {
    const s = new TextDecoder().decode(b.slice(0, n))
    return {
      recognise: `  - {at: 0, ascii: ${/^\d/.test(s) ? `"${s}"` : s}}`,
      magic: `  - magic: ascii[${n}]`,
      word: s.toLowerCase(),
    }
  }
  const k = Math.min(4, b.length)
  return {
    recognise: `  - {at: 0, bytes: "${Array.from(b.slice(0, k))
      .map((x) => x.toString(16).padStart(2, '0'))
      .join(' ')}"}`,
    magic: `  - magic: bytes[${k}]`,
    word: 'unknown',
  }
}

export const firstDoc = (
  name: string,
  kind: string,
  m: { recognise: string; magic: string },
  piece: string,
  order = 'little',
  fields: string[] = [],
) =>
  `layout: ${/^[\w -]+$/.test(name) ? name : JSON.stringify(name)}\nkind: ${kind}\norder: ${order}\n\nrecognise:\n${m.recognise}\n\nfields:\n${[m.magic, ...fields].join('\n')}\n\n${piece}\n`

export function Keep({
  entry,
  kind,
  piece,
  order,
  fields,
  plain,
}: {
  entry: number
  kind: 'container' | 'picture' | 'model'
  piece: string
  order?: string
  fields?: string[]
  plain?: boolean
}) {
  const project = useProjectId()
  const go = useNavigate()
  const [open, setOpen] = useState(false)
  const [name, setName] = useState('')
  const [into, setInto] = useState(0)
  const [fault, setFault] = useState<unknown>()
  const { data } = useQuery({
    queryKey: ['p', project, 'layouts'],
    queryFn: () => ok(api.GET('/api/projects/{project}/layouts', { params: { path: { project } } })),
  })
  const own = data?.filter((l) => !l.shipped) ?? []
  useEffect(() => setOpen(false), [entry])
  const begin = async () => {
    setFault(undefined)
    const m = await marks(entry)
    setName((n) => n || `${m.word} ${kind}`)
    setOpen(true)
  }
  const keep = async () => {
    setFault(undefined)
    try {
      if (into)
        return go(`/p/${project}/sources/layout/${into}?entry=${entry}`, {
          state: { piece: [...(fields ?? []).map((f) => `# in fields: ${f}`), piece].join('\n') },
        })
      const l = await ok(
        api.POST('/api/projects/{project}/layouts', {
          params: { path: { project } },
          body: { name, document: firstDoc(name, kind, await marks(entry), piece, order, fields) },
        }),
      )
      go(`/p/${project}/sources/layout/${l.id}?entry=${entry}`)
    } catch (e) {
      setFault(e)
    }
  }
  return (
    <>
      <div className="row ask wrap">
        {!open && (
          <Button variant="contained" onClick={() => void begin()}>
            {plain ? 'Describe it with a layout' : 'Keep in a layout'}
          </Button>
        )}
        {open && (
          <>
            <Select
              value={into}
              inputProps={{ 'aria-label': 'Layout' }}
              onChange={(e) => setInto(Number(e.target.value))}
            >
              <MenuItem value={0}>a new layout</MenuItem>
              {own.map((l) => (
                <MenuItem key={l.id} value={l.id}>
                  {l.name}
                </MenuItem>
              ))}
            </Select>
            {into === 0 && (
              <OutlinedInput
                value={name}
                onChange={(e) => setName(e.target.value)}
                inputProps={{ 'aria-label': 'Name of the layout', maxLength: 200 }}
              />
            )}
            <Button variant="contained" disabled={into === 0 && !name.trim()} onClick={() => void keep()}>
              {into ? 'Add to it' : 'Make it'}
            </Button>
            <button className="link" onClick={() => setOpen(false)}>
              Not now
            </button>
          </>
        )}
      </div>
      <Fault error={fault} />
      {!plain && open && (
        <pre className="code short" data-kept>
          {[...(fields?.length ? ['fields:', ...fields, ''] : []), piece].join('\n')}
        </pre>
      )}
    </>
  )
}
