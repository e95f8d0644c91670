// The materials desk: which picture each material has for what, and a table of
// rows that give them others. The table is the step's, and runs on the next
// asset too.
import {
  Button,
  Dialog,
  DialogActions,
  DialogContent,
  DialogTitle,
  OutlinedInput,
  styled,
} from '@mui/material'
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { useDeferredValue, useState } from 'react'
import { entryKeys, entryPage, pictureUrl } from '../../api/entries'
import { scenePicture, useInventory } from '../../api/scenes'
import { Label } from '../../parts/Form'
import { plural } from '../../parts/format'
import { Mini } from '../../parts/Mini'
import { Tag } from '../../parts/Tag'
import { Text } from '../../parts/Text'

export interface DeskRow {
  material: string
  role: string
  picture: string
  uv_set?: number
}

const ROLES = ['colour', 'metallic-roughness', 'normal', 'occlusion', 'emission']

const Frame = styled('div')({
  display: 'grid',
  gridTemplateColumns: 'minmax(0, 1fr) 320px',
  gap: 20,
  height: 'min(560px, 62vh)',
  '& .side': { display: 'flex', flexDirection: 'column', minHeight: 0, minWidth: 0 },
  '& .scroll': { overflow: 'auto', minHeight: 0, flex: 1 },
  '& table': { borderCollapse: 'collapse', width: '100%' },
  '& th': {
    textAlign: 'left',
    fontWeight: 500,
    fontSize: 12,
    color: 'var(--soft)',
    padding: '4px 8px',
    position: 'sticky',
    top: 0,
    background: 'var(--panel)',
    zIndex: 1,
  },
  '& td': { borderTop: '1px solid var(--thin)', padding: 0, height: 46, maxWidth: 150 },
  '& td.name': { padding: '0 8px' },
  '& .cell': {
    width: '100%',
    height: 45,
    border: 0,
    background: 'none',
    font: 'inherit',
    color: 'inherit',
    textAlign: 'left',
    cursor: 'pointer',
    padding: '0 8px',
    display: 'flex',
    alignItems: 'center',
    gap: 7,
    minWidth: 0,
    '&:hover': { background: 'var(--paper)' },
    '&[aria-pressed="true"], &[aria-selected="true"]': {
      background: 'var(--verdiT)',
      outline: '2px solid var(--verdi)',
      outlineOffset: -2,
    },
    '& img': { width: 32, height: 32, objectFit: 'cover', flex: 'none', border: '1px solid var(--thin)' },
    '& span': {
      minWidth: 0,
      overflow: 'hidden',
      textOverflow: 'ellipsis',
      whiteSpace: 'nowrap',
      fontSize: 12.5,
    },
  },
  '& .pictures': { border: '1px solid var(--line)', marginTop: 8, marginBottom: 8 },
  '& .table': {
    borderTop: '1px solid var(--line)',
    maxHeight: 130,
    overflow: 'auto',
    flex: 'none',
    '& > div': { display: 'flex', gap: 8, alignItems: 'center', padding: '3px 0', fontSize: 12.5 },
    '& > div > span:first-of-type': { flex: 1, minWidth: 0, overflowWrap: 'anywhere' },
  },
})

/** What a row says, in the order in which it is read. */
const says = (r: DeskRow) => `${r.material}: ${r.role} from ${r.picture}`

/** A row for one material stands before those for many; one for the same is replaced. */
function withRow(table: DeskRow[], row: DeskRow): DeskRow[] {
  const rest = table.filter((r) => r.material !== row.material || r.role !== row.role)
  return /[*?[]/.test(row.material) ? [...rest, row] : [row, ...rest]
}

export function Desk({
  project,
  digest,
  table,
  lines,
  busy,
  onChange,
  onClose,
}: {
  project: number
  /** The scene after the step, or that before it as long as there is none. */
  digest: string
  table: DeskRow[]
  /** What the step says of the table. */
  lines: string[]
  busy: boolean
  onChange: (table: DeskRow[]) => void
  onClose: () => void
}) {
  const { data } = useInventory(digest)
  const [at, setAt] = useState<{ material: string; role: string }>()
  return (
    <Dialog open onClose={onClose} maxWidth="lg" fullWidth aria-labelledby="desk">
      <DialogTitle id="desk">Materials</DialogTitle>
      <DialogContent>
        <Frame data-desk={digest}>
          <div className="side">
            <div className="scroll">
              <table aria-label="Pictures of the materials">
                <thead>
                  <tr>
                    <th>{plural(data?.materials.length ?? 0, 'material')}</th>
                    {ROLES.map((r) => (
                      <th key={r}>{r}</th>
                    ))}
                  </tr>
                </thead>
                <tbody>
                  {(data?.materials ?? []).map((m, i) => (
                    <tr key={i}>
                      <td className="name">
                        <Text clip block title={m.name}>
                          {m.name}
                        </Text>
                        <Text tone="soft" small>
                          {plural(m.triangles, 'triangle')} · {m.alpha}
                        </Text>
                      </td>
                      {ROLES.map((role) => {
                        const t = m.textures.find((x) => x.role === role)
                        const p = t && data?.pictures[t.picture]
                        return (
                          <td key={role}>
                            <button
                              className="cell"
                              data-cell={`${m.name} ${role}`}
                              aria-pressed={at?.material === m.name && at.role === role}
                              aria-label={`${role} of ${m.name}: ${p ? p.name : 'none'}`}
                              title={p?.name}
                              onClick={() => setAt({ material: m.name, role })}
                            >
                              {t && !t.missing && <img src={scenePicture(digest, t.picture)} alt="" />}
                              <span>{p ? p.name : '–'}</span>
                              {t?.missing && <Tag tone="bad">missing</Tag>}
                            </button>
                          </td>
                        )
                      })}
                    </tr>
                  ))}
                </tbody>
              </table>
            </div>
            <div className="table" data-rows={table.length}>
              {table.length === 0 && (
                <div>
                  <Text tone="soft">Choose a cell, then the picture for it.</Text>
                </div>
              )}
              {table.map((r, i) => (
                <div key={says(r)}>
                  <span>{says(r)}</span>
                  <Mini
                    onClick={() => onChange(table.filter((_, k) => k !== i))}
                    aria-label={`Remove ${says(r)}`}
                  >
                    Remove
                  </Mini>
                </div>
              ))}
            </div>
          </div>
          {at ? (
            <Give
              key={`${at.material} ${at.role}`}
              project={project}
              {...at}
              onGive={(row) => onChange(withRow(table, row))}
            />
          ) : (
            <div />
          )}
        </Frame>
      </DialogContent>
      <DialogActions>
        <Text tone="soft" small className="grow" role="status">
          {busy ? 'being computed…' : lines.join('; ')}
        </Text>
        <Button variant="contained" onClick={onClose}>
          Done
        </Button>
      </DialogActions>
    </Dialog>
  )
}

/** The choice of a picture for a material, or for all that are named so. */
function Give({
  project,
  material,
  role,
  onGive,
}: {
  project: number
  material: string
  role: string
  onGive: (row: DeskRow) => void
}) {
  const [text, setText] = useState('')
  const [whose, setWhose] = useState(material)
  const [picture, setPicture] = useState('')
  const words = useDeferredValue(text.trim())
  const { data, error } = useQuery({
    queryKey: entryKeys.page(project, 'pictures', words),
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) =>
      entryPage(project, { q: words || undefined, kind: 'picture', offset: 0, limit: 60 }, signal),
  })
  // A picture that is named after the material says how the others are named.
  const base = picture.slice(picture.lastIndexOf('/') + 1).replace(/\.[^.]*$/, '')
  const k = base.toLowerCase().indexOf(material.toLowerCase())
  const pattern =
    k >= 0 && !base.includes('{') ? `${base.slice(0, k)}{material}${base.slice(k + material.length)}` : ''
  return (
    <div className="side" data-give={`${material} ${role}`}>
      <Text as="b">
        {role} of {material}
      </Text>
      <OutlinedInput
        value={text}
        onChange={(e) => setText(e.target.value)}
        placeholder="Search pictures"
        inputProps={{ 'aria-label': 'Search pictures', spellCheck: false, maxLength: 200 }}
      />
      <div className="scroll pictures" role="listbox" aria-label="Pictures in the sources">
        {(data?.entries ?? []).map((e) => (
          <button
            key={e.id}
            className="cell"
            role="option"
            aria-selected={picture === e.path}
            data-picture={e.path}
            title={`${e.path} in ${e.sourceLabel}`}
            onClick={() => setPicture(e.path)}
          >
            <img src={pictureUrl(e.id)} alt="" loading="lazy" />
            <span>{e.path}</span>
          </button>
        ))}
        {data?.entries.length === 0 && (
          <Text as="div" tone="soft" small style={{ padding: 10 }}>
            {words ? 'No picture in the sources has that in its path.' : 'The sources hold no pictures.'}
          </Text>
        )}
        {error && <Text tone="bad">{error.message}</Text>}
      </div>
      <Label>Materials named</Label>
      <OutlinedInput
        value={whose}
        onChange={(e) => setWhose(e.target.value)}
        inputProps={{ 'aria-label': 'Materials named', spellCheck: false, maxLength: 200 }}
      />
      <Label>Picture named</Label>
      <OutlinedInput
        value={picture}
        onChange={(e) => setPicture(e.target.value)}
        inputProps={{ 'aria-label': 'Picture named', spellCheck: false, maxLength: 300 }}
      />
      <div style={{ display: 'flex', gap: 8, flexWrap: 'wrap', marginTop: 10 }}>
        <Button
          variant="contained"
          disabled={!picture.trim() || !whose.trim()}
          onClick={() => onGive({ material: whose.trim(), role, picture: picture.trim() })}
        >
          Put it in the table
        </Button>
        {pattern && (
          <Button
            onClick={() => {
              setWhose('*')
              setPicture(pattern)
            }}
            title={`For every material its own: ${pattern}`}
          >
            All named so
          </Button>
        )}
      </div>
    </div>
  )
}
