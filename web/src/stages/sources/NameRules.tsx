// Name rules: what a prefix or suffix means. Proposed from the names, kept by
// the porter.
import { Button, Dialog, DialogContent, DialogTitle, MenuItem, OutlinedInput, Select } from '@mui/material'
import { useRef, useState } from 'react'
import { useAct, type S } from '../../api/http'
import { keepNaming, useNaming } from '../../api/links'
import { Fault } from '../../parts/bits'
import { count } from '../../parts/format'
import type { Put } from '../../parts/address'

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
      <div className="head top">
        <h2>Name rules</h2>
        <span className="soft small">from {count(data.names)} names</span>
      </div>
      <Fault error={error ?? fault} />
      <table className="names">
        <tbody>
          {rules.map((r) => (
            <tr key={r.where + r.affix} data-rule={r.affix}>
              <td className="mono">
                <button
                  className="link"
                  title="Show the entries"
                  onClick={() => put({ q: glob(r), view: '' })}
                >
                  {glob(r).replace('.*', '')}
                </button>
              </td>
              <td>{meaning(r.means, r.value)}</td>
              <td className="n">{count(r.count)}</td>
            </tr>
          ))}
          {guesses.slice(0, 6).map((p) => (
            <tr key={p.where + p.affix} data-proposal={p.affix}>
              <td className="mono soft">{glob(p).replace('.*', '')}</td>
              <td>
                <span className="soft" title={p.evidence}>
                  {meaning(p.means, p.value)}?
                </span>{' '}
                <button
                  className="link"
                  aria-label={`Keep ${p.affix}`}
                  onClick={() => save([...rules, p as Rule])}
                >
                  Keep
                </button>
              </td>
              <td className="n soft">{count(p.count)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <div className="body row">
        <Button variant="text" onClick={() => setEditing(true)}>
          {rules.length + data.proposals.length === 0 ? 'Add a rule' : 'All rules'}
        </Button>
      </div>
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
        <p className="soft">
          A prefix or suffix and what it tells. Entries whose names are the same without them are one set.
        </p>
        <Fault error={fault} />
        <table className="forms">
          <tbody>
            {rules.map((r, i) => (
              <tr key={i}>
                <td>
                  <Select
                    value={r.where}
                    onChange={(e) => set(i, { where: e.target.value as Rule['where'] })}
                    inputProps={{ 'aria-label': 'Where' }}
                  >
                    <MenuItem value="prefix">prefix</MenuItem>
                    <MenuItem value="suffix">suffix</MenuItem>
                  </Select>
                </td>
                <td>
                  <OutlinedInput
                    value={r.affix}
                    onChange={(e) => set(i, { affix: e.target.value })}
                    inputProps={{ 'aria-label': 'Affix', className: 'mono', maxLength: 64 }}
                  />
                </td>
                <td>
                  <Select
                    value={r.means}
                    onChange={(e) =>
                      set(i, {
                        means: e.target.value as Rule['means'],
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
                </td>
                <td>
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
                </td>
                <td className="n">
                  <button className="mini" onClick={() => setRules(rules.filter((_, k) => k !== i))}>
                    Remove
                  </button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        <div className="row wrap flush tools">
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
        </div>
        <h2>Frequent in the names</h2>
        <div className="rows">
          <table>
            <tbody>
              {naming.proposals
                .filter((p) => !have.has(p.where + p.affix))
                .map((p) => (
                  <tr key={p.where + p.affix}>
                    <td className="mono">{glob(p)}</td>
                    <td className="n">{count(p.count)}</td>
                    <td className="soft clip" title={p.example}>
                      such as {p.example}
                    </td>
                    <td>{p.means ? `${meaning(p.means, p.value)}? ${p.evidence}` : ''}</td>
                    <td className="n">
                      <button
                        className="mini"
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
                      </button>
                    </td>
                  </tr>
                ))}
            </tbody>
          </table>
        </div>
      </DialogContent>
    </Dialog>
  )
}
