// Name rules: what a prefix or suffix means. Proposed from the names, kept by
// the porter.
import { Button, Dialog, DialogContent, DialogTitle, MenuItem, OutlinedInput, Select } from '@mui/material'
import { useRef, useState } from 'react'
import { useAct, type S } from '../../api/http'
import { keepNaming, useNaming } from '../../api/links'
import { Fault } from '../../parts/bits'
import { count } from '../../parts/format'
import type { Put } from '../../parts/address'
import { Table, TableBody, TableRow, TableCell } from '@mui/material'
import { Body } from '../../parts/Body'
import { Head } from '../../parts/Head'
import { Mini } from '../../parts/Mini'
import { Rows } from '../../parts/Scroll'
import { Text } from '../../parts/Text'
import { TextButton } from '../../parts/TextButton'
import { Tools } from '../../parts/Tools'

type Rule = S['NameRule']
/** The rules without what was counted of them. */
const bare = (list: Rule[]): Rule[] =>
  list.map(({ where, affix, means, value }) => ({ where, affix, means, value }))
const glob = (r: { where: string; affix: string }) => (r.where === 'prefix' ? `${r.affix}*` : `*${r.affix}.*`)
const meaning = (means: string, value: string) =>
  means === 'role'
    ? value === 'normal'
      ? 'normal map'
      : value
    : means === 'lod'
      ? `level of detail ${value}`
      : means === 'state'
        ? `state: ${value}`
        : value

export function NameRules({ project, put }: { project: number; put: Put }) {
  const { data, error } = useNaming(project)
  const [editing, setEditing] = useState(false)
  const { act, fault } = useAct(project)
  const rules = (data?.rules ?? []) as (Rule & { count: number })[]
  const guesses = data?.proposals.filter((p) => p.means) ?? []
  const save = (list: Rule[], then?: () => void) =>
    act(() => keepNaming(project, { rules: bare(list) }), then)
  if (!data || data.names === 0) return null
  return (
    <>
      <Head ruled>
        <h2>Name rules</h2>
        <Text tone="soft" small>
          from {count(data.names)} names
        </Text>
      </Head>
      <Fault error={error ?? fault} />
      <Table size="small" className="names">
        <TableBody>
          {rules.map((r) => (
            <TableRow key={r.where + r.affix} data-rule={r.affix}>
              <TableCell className="mono">
                <TextButton title="Show the entries" onClick={() => put({ q: glob(r), view: '' })}>
                  {glob(r).replace('.*', '')}
                </TextButton>
              </TableCell>
              <TableCell>{meaning(r.means, r.value)}</TableCell>
              <TableCell align="right">{count(r.count)}</TableCell>
            </TableRow>
          ))}
          {guesses.slice(0, 6).map((p) => (
            <TableRow key={p.where + p.affix} data-proposal={p.affix}>
              <TableCell className="mono soft">{glob(p).replace('.*', '')}</TableCell>
              <TableCell>
                <Text tone="soft" title={p.evidence}>
                  {meaning(p.means, p.value)}?
                </Text>{' '}
                <TextButton aria-label={`Keep ${p.affix}`} onClick={() => save([...rules, p as Rule])}>
                  Keep
                </TextButton>
              </TableCell>
              <TableCell align="right" className="soft">
                {count(p.count)}
              </TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
      <Body className="row">
        <Button variant="text" onClick={() => setEditing(true)}>
          {rules.length + data.proposals.length === 0 ? 'Add a rule' : 'All rules'}
        </Button>
      </Body>
      {editing && <Edit project={project} naming={data} onClose={() => setEditing(false)} />}
    </>
  )
}

function Edit({ project, naming, onClose }: { project: number; naming: S['Naming']; onClose: () => void }) {
  const [rules, setRules] = useState<Rule[]>(naming.rules as Rule[])
  const { act, fault } = useAct(project)
  const file = useRef<HTMLInputElement>(null)
  const set = (i: number, r: Partial<Rule>) => setRules(rules.map((x, k) => (k === i ? { ...x, ...r } : x)))
  const keep = () => act(() => keepNaming(project, { rules: bare(rules) }), onClose)
  const load = (f: File) => act(async () => keepNaming(project, { document: await f.text() }), onClose)
  const have = new Set(rules.map((r) => r.where + r.affix.toLowerCase()))
  return (
    <Dialog open onClose={onClose} maxWidth="md" fullWidth>
      <DialogTitle>Name rules</DialogTitle>
      <DialogContent>
        <Text as="p" tone="soft">
          A prefix or suffix and what it tells. Entries whose names are the same without them are one set.
        </Text>
        <Fault error={fault} />
        <Table size="small" className="forms">
          <TableBody>
            {rules.map((r, i) => (
              <TableRow key={i}>
                <TableCell>
                  <Select
                    value={r.where}
                    onChange={(e) => set(i, { where: e.target.value })}
                    inputProps={{ 'aria-label': 'Where' }}
                  >
                    <MenuItem value="prefix">prefix</MenuItem>
                    <MenuItem value="suffix">suffix</MenuItem>
                  </Select>
                </TableCell>
                <TableCell>
                  <OutlinedInput
                    value={r.affix}
                    onChange={(e) => set(i, { affix: e.target.value })}
                    inputProps={{ 'aria-label': 'Affix', className: 'mono', maxLength: 64 }}
                  />
                </TableCell>
                <TableCell>
                  <Select
                    value={r.means}
                    onChange={(e) =>
                      set(i, {
                        means: e.target.value,
                        value: e.target.value === 'role' ? 'colour' : e.target.value === 'lod' ? '1' : '',
                      })
                    }
                    inputProps={{ 'aria-label': 'Meaning' }}
                  >
                    <MenuItem value="role">picture role</MenuItem>
                    <MenuItem value="kind">kind of thing</MenuItem>
                    <MenuItem value="lod">level of detail</MenuItem>
                    <MenuItem value="state">state or variant</MenuItem>
                  </Select>
                </TableCell>
                <TableCell>
                  {r.means === 'role' ? (
                    <Select
                      value={r.value}
                      onChange={(e) => set(i, { value: e.target.value })}
                      inputProps={{ 'aria-label': 'Role' }}
                    >
                      {naming.roles.map((x) => (
                        <MenuItem key={x} value={x}>
                          {x}
                        </MenuItem>
                      ))}
                    </Select>
                  ) : (
                    <OutlinedInput
                      value={r.value}
                      onChange={(e) => set(i, { value: e.target.value })}
                      inputProps={{ 'aria-label': 'Value', maxLength: 64 }}
                    />
                  )}
                </TableCell>
                <TableCell align="right">
                  <Mini onClick={() => setRules(rules.filter((_, k) => k !== i))}>Remove</Mini>
                </TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
        <Tools flush className="row wrap">
          <Button
            onClick={() =>
              setRules([...rules, { where: 'suffix', affix: '', means: 'role', value: 'colour' }])
            }
          >
            Add a rule
          </Button>
          <Button variant="contained" onClick={() => keep()}>
            Keep these rules
          </Button>
          <span className="grow" />
          <Button variant="text" href={`/api/projects/${project}/naming/document`}>
            Export
          </Button>
          <Button variant="text" onClick={() => file.current?.click()}>
            Import
          </Button>
          <input
            ref={file}
            type="file"
            accept=".yaml,.yml"
            hidden
            onChange={(e) => e.target.files?.[0] && load(e.target.files[0])}
          />
        </Tools>
        <h2>Frequent in the names</h2>
        <Rows>
          <Table size="small">
            <TableBody>
              {naming.proposals
                .filter((p) => !have.has(p.where + p.affix))
                .map((p) => (
                  <TableRow key={p.where + p.affix}>
                    <TableCell className="mono">{glob(p)}</TableCell>
                    <TableCell align="right">{count(p.count)}</TableCell>
                    <TableCell className="soft clip" title={p.example}>
                      such as {p.example}
                    </TableCell>
                    <TableCell>{p.means ? `${meaning(p.means, p.value)}? ${p.evidence}` : ''}</TableCell>
                    <TableCell align="right">
                      <Mini
                        onClick={() =>
                          setRules([
                            ...rules,
                            {
                              where: p.where as Rule['where'],
                              affix: p.affix,
                              means: (p.means || 'kind') as Rule['means'],
                              value: p.value,
                            },
                          ])
                        }
                      >
                        Take
                      </Mini>
                    </TableCell>
                  </TableRow>
                ))}
            </TableBody>
          </Table>
        </Rows>
      </DialogContent>
    </Dialog>
  )
}
