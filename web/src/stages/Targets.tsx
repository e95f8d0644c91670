// Target sheets: what a target expects of an asset, as a form and as text.
import { Button, MenuItem, Select, ToggleButton, ToggleButtonGroup, styled } from '@mui/material'
import { useQueryClient } from '@tanstack/react-query'
import { useRef, useState } from 'react'
import { Link, useNavigate, useParams } from 'react-router'
import { useFinds } from '../api/finds'
import type { S } from '../api/http'
import {
  keepTarget,
  makeTarget,
  proposeTarget,
  sheetText,
  takeTarget,
  targetKeys,
  targetVersion,
  useSheetCheck,
  useSheetSchema,
  useTarget,
  useTargets,
} from '../api/targets'
import { Bench } from '../parts/Bench'
import { Fault } from '../parts/bits'
import { Body } from '../parts/Body'
import { Empty } from '../parts/Empty'
import { FactGrid } from '../parts/Facts'
import { Form } from '../parts/Form'
import { when } from '../parts/format'
import { Head } from '../parts/Head'
import { useLater } from '../parts/hooks'
import { Pane } from '../parts/Pane'
import { Panes } from '../parts/Panes'
import { useProjectId } from '../parts/project'
import { Row } from '../parts/Row'
import { SchemaForm, type Schema } from '../parts/SchemaForm'
import { Scroll } from '../parts/Scroll'
import { Tag } from '../parts/Tag'
import { Text } from '../parts/Text'
import { TextButton } from '../parts/TextButton'
import { YamlEditor, type EditorHandle } from '../parts/YamlEditor'

const Sheet = styled(Link)({
  display: 'block',
  padding: '9px 18px',
  borderBottom: '1px solid var(--thin)',
  color: 'inherit',
  textDecoration: 'none',
  fontSize: 13,
  '&:hover': { background: 'var(--paper)' },
  '&.on': { background: 'var(--verdiT)' },
  '& small': { display: 'block', color: 'var(--soft)', fontSize: 12 },
})

const blank = `target: My target
about: What it is, for whoever reads the rehearsal.
format: glb
basis: {up: +Y, front: +Z, handedness: right, metres_per_unit: 1}
`

/** Rules that forbid a kind of thing are switches in a form. */
const kinds = ['cameras', 'lights', 'helpers', 'end_bones']
const textOnly = ['rules', 'severity', 'why']

/** The schema as a form asks it. */
function formSchema(s: Schema): Schema {
  const properties: Record<string, Schema> = {}
  for (const [k, v] of Object.entries(s.properties ?? {})) {
    if (textOnly.includes(k)) continue
    properties[k] = kinds.includes(k)
      ? { title: v.title, enum: ['', 'none may be there'], empty: 'are taken' }
      : v
  }
  return { ...s, properties, default: undefined }
}
const toForm = (v: Record<string, unknown>) =>
  Object.fromEntries(
    Object.entries(v).map(([k, x]) =>
      kinds.includes(k) ? [k, x === false ? 'none may be there' : ''] : [k, x],
    ),
  )
const ofForm = (v: Record<string, unknown>) =>
  Object.fromEntries(
    Object.entries(v)
      .filter(([k, x]) => !(kinds.includes(k) && x === ''))
      .map(([k, x]) => (kinds.includes(k) ? [k, false] : [k, x])),
  )

export function Targets() {
  const project = useProjectId()
  const id = useParams().target ?? ''
  const go = useNavigate()
  const q = useQueryClient()
  const { data: list, error } = useTargets()
  const { data: doc, error: fail } = useTarget(id)
  const { data: finds } = useFinds(project)
  const [fault, setFault] = useState<unknown>()
  const [gone, setGone] = useState<{ id: string; name: string }>()
  const example = useRef<HTMLSelectElement>(null)
  const run = async (f: () => Promise<unknown>) => {
    setFault(undefined)
    try {
      await f()
      await q.invalidateQueries({ queryKey: targetKeys.list, exact: true })
    } catch (e) {
      setFault(e)
    }
  }
  const open = (d: S['SheetDocument']) => go(`/p/${project}/targets/${d.id}`)
  const make = (text: string) => void run(async () => open(await makeTarget(text)))
  const take = (t: S['Target']) =>
    void run(async () => {
      await takeTarget(t.id)
      setGone({ id: t.id, name: t.name })
      if (t.id === id) await go(`/p/${project}/targets`)
    })
  const ready = (finds ?? []).filter((f) => f.model)
  return (
    <Panes id="targets" widths={[{ of: 300, least: 220 }, 'rest']} labels={['target sheets', 'the sheet']}>
      <Pane column>
        <Head title="Target sheets" end={<Text tone="soft">{list?.length}</Text>} />
        <Body acts>
          <Row wrap>
            <Button onClick={() => make(blank)}>New</Button>
            <Button component="label">
              Bring in a file
              <input
                type="file"
                accept=".yaml,.yml"
                hidden
                onChange={(e) => void e.target.files?.[0]?.text().then(make)}
              />
            </Button>
          </Row>
          <Select
            native
            fullWidth
            style={{ marginTop: 8 }}
            value=""
            inputProps={{ 'aria-label': 'From an example', ref: example }}
            onChange={(e) => {
              const find = Number(e.target.value)
              if (find) void run(async () => open(await makeTarget((await proposeTarget(find)).text)))
            }}
          >
            <option value="">From an asset that it takes…</option>
            {ready.map((f) => (
              <option key={f.id} value={f.id}>
                {f.name}
              </option>
            ))}
          </Select>
        </Body>
        <Fault error={error ?? fault} />
        {gone && (
          <Body>
            {gone.name} is taken out.{' '}
            <TextButton
              onClick={() =>
                void run(async () => {
                  await takeTarget(gone.id, true)
                  setGone(undefined)
                })
              }
            >
              Put it back
            </TextButton>
          </Body>
        )}
        <Scroll>
          {list?.map((t) => (
            <Sheet
              key={t.id}
              to={`/p/${project}/targets/${t.id}`}
              className={t.id === id ? 'on' : ''}
              data-sheet={t.id}
            >
              <b>{t.name}</b> {!t.shipped && <Tag>own</Tag>}
              <small>{t.about}</small>
            </Sheet>
          ))}
        </Scroll>
      </Pane>
      {!id ? (
        <Pane ground>
          <Empty>
            <b>What a target expects</b>A sheet holds the rules of an engine, a tool or a platform: axes and
            unit, names, limits, its skeleton and materials, where files go. Choose one to read it, copy one
            that is like yours, or let one be proposed from an asset that the target already takes.
          </Empty>
        </Pane>
      ) : (
        <Pane column>
          <Fault error={fail} />
          {doc && list && (
            <One
              key={`${doc.id} ${doc.version}`}
              doc={doc}
              of={list.find((t) => t.id === id)}
              onMake={make}
              onTake={take}
              onKept={() => void q.invalidateQueries({ queryKey: targetKeys.list })}
            />
          )}
        </Pane>
      )}
    </Panes>
  )
}

/** One sheet, while it is read or written. */
function One({
  doc,
  of,
  onMake,
  onTake,
  onKept,
}: {
  doc: S['SheetDocument']
  of?: S['Target']
  onMake: (text: string) => void
  onTake: (t: S['Target']) => void
  onKept: () => void
}) {
  const [text, setText] = useState(doc.text)
  const [as, setAs] = useState<'text' | 'form'>('text')
  const [start, setStart] = useState(doc.text)
  const [fault, setFault] = useState<unknown>()
  const editor = useRef<EditorHandle>(null)
  const late = useLater(text, 200)
  const { data: check } = useSheetCheck(late)
  const { data: schema } = useSheetSchema()
  const problem =
    check && !check.ok ? { line: check.line, column: check.column, message: check.message ?? '' } : undefined
  const changed = text !== doc.text
  const copy = () =>
    onMake(
      text.replace(
        /^target:.*$/m,
        (l) => `${l.trimEnd().replace(/"$/, '')} of mine${/"$/.test(l.trimEnd()) ? '"' : ''}`,
      ),
    )
  const keep = () => {
    setFault(undefined)
    keepTarget(doc.id, text, doc.version).then(onKept, setFault)
  }
  const form = (v: Record<string, unknown>) => {
    setFault(undefined)
    // What a form does not ask is kept.
    const more = Object.fromEntries(Object.entries(check?.values ?? {}).filter(([k]) => textOnly.includes(k)))
    sheetText({ ...ofForm(v), ...more }, text).then((c) => {
      if (c.text) setText(c.text)
      if (!c.ok) setFault({ message: c.message })
    }, setFault)
  }
  return (
    <Bench>
      <div className="stripe">
        <Row wrap>
          <Text as="b" clip>
            {of?.name ?? doc.id}
          </Text>
          {doc.shipped ? (
            <Text tone="soft" small>
              ships with Excavate
            </Text>
          ) : (
            <Select
              value={doc.version}
              inputProps={{ 'aria-label': 'Version' }}
              onChange={(e) =>
                void targetVersion(doc.id, Number(e.target.value)).then((d) => {
                  setText(d.text)
                  setStart(d.text)
                  editor.current?.replace(d.text)
                }, setFault)
              }
            >
              {doc.versions.map((v) => (
                <MenuItem key={v.no} value={v.no}>
                  version {v.no} · {when(v.made)}
                </MenuItem>
              ))}
            </Select>
          )}
          <ToggleButtonGroup
            exclusive
            value={as}
            aria-label="Shown as"
            onChange={(_, v: 'text' | 'form' | null) => {
              if (!v) return
              setStart(text)
              setAs(v)
            }}
          >
            <ToggleButton value="text">Text</ToggleButton>
            <ToggleButton value="form" disabled={!check?.ok}>
              Form
            </ToggleButton>
          </ToggleButtonGroup>
          {!doc.shipped && (
            <Button variant="contained" disabled={!changed || !check?.ok} onClick={keep}>
              Keep this version
            </Button>
          )}
          <Button
            variant={doc.shipped && changed ? 'contained' : 'outlined'}
            disabled={!check?.ok}
            onClick={copy}
          >
            {doc.shipped ? 'Copy to change it' : 'Copy'}
          </Button>
          <Tag tone={check?.ok ? 'good' : 'warn'} data-check={check?.ok ? 'works' : 'error'}>
            {check?.ok ? 'is a sheet' : 'is no sheet yet'}
          </Tag>
          <span className="grow" />
          <TextButton
            component="a"
            href={`data:text/yaml;charset=utf-8,${encodeURIComponent(text)}`}
            download={`${doc.id}.yaml`}
          >
            Save as a file
          </TextButton>
          {!doc.shipped && of && <TextButton onClick={() => onTake(of)}>Take out</TextButton>}
        </Row>
      </div>
      <Fault error={fault} />
      <Panes id="sheet" widths={['rest', { of: 320, least: 220 }]} labels={['the sheet', 'what it says']}>
        <Pane column>
          {as === 'text' ? (
            <YamlEditor
              ref={editor}
              start={start}
              schema={schema}
              problem={problem}
              onChange={setText}
              onDepth={() => undefined}
              onLine={() => undefined}
            />
          ) : (
            <Scroll>
              <Form last>
                {schema && (
                  <SchemaForm
                    schema={formSchema(schema as Schema)}
                    value={toForm(check?.values ?? {})}
                    onChange={form}
                  />
                )}
                <Text as="div" tone="soft" small>
                  Own rules, how much a rule matters and reasons in the target&apos;s own terms are written as
                  text.
                </Text>
              </Form>
            </Scroll>
          )}
          {problem && (
            <div className="fault low" role="alert" data-problem>
              <TextButton
                onClick={() => {
                  setAs('text')
                  editor.current?.goTo(problem.line ?? 1, problem.column ?? 1)
                }}
              >
                Line {problem.line ?? '?'}, column {problem.column ?? '?'}
              </TextButton>
              : {problem.message}
            </div>
          )}
        </Pane>
        <Pane>
          <Head title="What it says" />
          <FactGrid names={92}>
            {(check?.lines ?? []).map((l, i) => [
              <span key={`${i}w`}>{l.what}</span>,
              <div key={`${i}v`}>{l.value}</div>,
            ])}
          </FactGrid>
        </Pane>
      </Panes>
    </Bench>
  )
}
