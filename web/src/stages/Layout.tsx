// A layout while it is written: the document, what it reads in an entry field
// by field, the bytes, and what comes out.
import { Button, MenuItem, Select, ToggleButton, ToggleButtonGroup } from '@mui/material'
import { useQueryClient } from '@tanstack/react-query'
import { useEffect, useRef, useState } from 'react'
import { Link, useLocation, useNavigate, useParams, useSearchParams } from 'react-router'
import { refresh, type S } from '../api/http'
import {
  dropDraft,
  forgetLayout,
  keepDraft,
  keepLayout,
  layoutDocument,
  layoutKeys,
  layoutVersion,
  useCheck,
  useExplained,
  useLayout,
  useLayoutSchema,
} from '../api/layouts'
import { Fault } from '../parts/bits'
import { count, when } from '../parts/format'
import { YamlEditor, type EditorHandle } from '../parts/YamlEditor'
import { useProjectId } from '../parts/project'
import { ROW } from './bytes/offset'
import { View } from './bytes/View'
import { Empty } from '../parts/Empty'
import { Notice } from '../parts/Notice'
import { Pane } from '../parts/Pane'
import { Row } from '../parts/Row'
import { Text } from '../parts/Text'
import { TextButton } from '../parts/TextButton'
import { Tools } from '../parts/Tools'
import { Tag } from '../parts/Tag'
import { Bench } from '../parts/Bench'
import { Panes } from '../parts/Panes'
import { useLater, useLatest } from '../parts/hooks'
import { Explains } from './layout/Explains'
import { Tree, pieceOfLine } from './layout/Tree'
import { Result } from './layout/Result'
import { CoveragePane } from './layout/Coverage'

export function LayoutPage() {
  const id = Number(useParams().layout)
  const { data, error } = useLayout(id)
  if (!data)
    return (
      <Bench>
        <Fault error={error} />
        {!error && <Empty>Opening the layout…</Empty>}
      </Bench>
    )
  return <Editor key={id} first={data} />
}

function Editor({ first }: { first: S['Layout'] }) {
  const project = useProjectId()
  const go = useNavigate()
  const q = useQueryClient()
  const [params] = useSearchParams()
  const entry = Number(params.get('entry') ?? 0)
  const [kept, setKept] = useState(first)
  const [doc, setDoc] = useState(first.draft ?? first.document)
  const [depth, setDepth] = useState([0, 0])
  const [fault, setFault] = useState<unknown>()
  const [sel, setSel] = useState({ at: 0, n: 1 })
  const [focus, setFocus] = useState(-1)
  const [tab, setTab] = useState('result')
  const edit = useRef<EditorHandle>(null)
  const piece = (useLocation().state as { piece?: string } | null)?.piece
  useEffect(() => {
    if (piece) {
      edit.current?.insert(piece + '\n')
      window.history.replaceState({}, '')
    }
  }, [piece])
  const late = useLater(doc, 200)
  const schema = useLayoutSchema()
  const check = useCheck(late)
  const works = check.data?.works ?? false
  const read = useExplained(entry, late, focus, works)
  const x = read.data
  const problem =
    check.data && !works
      ? { line: check.data.line, column: check.data.column, message: check.data.message ?? '' }
      : x?.message
        ? {
            line: x.line,
            column: x.column,
            message: `${x.message}${x.at !== undefined ? ` (offset ${count(x.at)})` : ''}`,
          }
        : undefined
  const changed = doc !== kept.document || kept.version !== kept.head
  const size = x?.size ?? 0
  const [top, setTop] = useState(0)
  const now = useRef([0, 1])
  const select = (at: number, n: number, from?: 'bytes') => {
    const to = Math.max(0, Math.min(at, Math.max(0, size - 1)))
    now.current = [to, Math.max(1, n)]
    setSel({ at: to, n: Math.max(1, n) })
    const row = Math.floor(to / ROW)
    if (row < top || row >= top + 12) setTop(Math.max(0, row - 3))
    if (from === 'bytes') setFocus(to)
  }
  // What is typed is saved a moment later, and at once when the page is left.
  const saved = useRef(doc)
  // The version that what is typed is made of: a draft may be of an older one.
  const base = useRef(first.draft === undefined ? first.head : (first.draftBase ?? first.head))
  const save = useLatest((leaving = false) => {
    if (doc === saved.current) return
    const draft = doc
    saved.current = draft
    const sent =
      draft === kept.document ? dropDraft(kept.id, leaving) : keepDraft(kept.id, draft, base.current, leaving)
    sent.catch((e: unknown) => {
      saved.current = ''
      setFault(e)
    })
  })
  useEffect(() => {
    const t = setTimeout(() => save.current(), 400)
    return () => clearTimeout(t)
  }, [doc, save])
  useEffect(() => {
    const leave = () => save.current(true)
    window.addEventListener('pagehide', leave)
    return () => {
      window.removeEventListener('pagehide', leave)
      leave()
      forgetLayout(q, first.id)
    }
  }, [save, q, first.id])
  const keep = async () => {
    setFault(undefined)
    saved.current = doc
    try {
      const l = await keepLayout(kept.id, doc, base.current)
      base.current = l.head
      setKept(l)
      q.setQueryData(layoutKeys.one(l.id), l)
      void refresh(q, project)
    } catch (e) {
      setFault(e)
    }
  }
  const version = async (no: number) => {
    setFault(undefined)
    try {
      const l = await layoutVersion(kept.id, no)
      edit.current?.replace(l.document)
      base.current = l.head
      setKept(l)
    } catch (e) {
      setFault(e)
    }
  }
  const bring = (f?: File) => {
    if (f) void f.text().then((t) => edit.current?.replace(t))
  }
  const gap = (i: number) => (x?.gaps.some((g) => i >= g.at && i < g.at + g.size) ? 'dim' : '')
  return (
    <Bench>
      <div className="stripe">
        <Row wrap>
          <Text as="b" clip>
            {kept.name}
          </Text>
          <Text tone="soft" small>
            {check.data?.kind ?? ''} layout
          </Text>
          <Select
            value={kept.version}
            inputProps={{ 'aria-label': 'Version' }}
            onChange={(e) => void version(Number(e.target.value))}
          >
            {kept.versions.map((v) => (
              <MenuItem key={v.no} value={v.no}>
                version {v.no} · {when(v.made)}
              </MenuItem>
            ))}
          </Select>
          <Button disabled={depth[0] === 0} onClick={() => edit.current?.undo()}>
            Undo
          </Button>
          <Button disabled={depth[1] === 0} onClick={() => edit.current?.redo()}>
            Redo
          </Button>
          <Button variant="contained" disabled={!changed} onClick={() => void keep()}>
            Keep this version
          </Button>
          {doc !== kept.document && (
            <TextButton
              data-draft
              title="What is typed is saved as a draft; this goes back to the version that is kept"
              onClick={() => edit.current?.replace(kept.document)}
            >
              Drop the draft
            </TextButton>
          )}
          <Tag tone={works ? 'good' : 'warn'} data-check={works ? 'works' : 'error'}>
            {works ? 'compiles' : 'does not compile'}
          </Tag>
          <span className="grow" />
          <TextButton component="label">
            Bring in a file
            <input type="file" accept=".yaml,.yml" hidden onChange={(e) => bring(e.target.files?.[0])} />
          </TextButton>
          <TextButton component="a" href={layoutDocument(kept.id)}>
            Save as a file
          </TextButton>
          <TextButton
            onClick={() =>
              void go(entry ? `/p/${project}/sources/bytes/${entry}` : `/p/${project}/sources/layouts`)
            }
          >
            {entry ? 'Back to the bytes' : 'All layouts'}
          </TextButton>
        </Row>
        <Explains x={x} sel={sel} onGo={(at, n) => select(at, n, 'bytes')} />
      </div>
      <Fault error={fault} />
      <Panes
        id="layout"
        widths={[{ of: 420, least: 240 }, 'rest', { of: 588, least: 300 }]}
        labels={['the document', 'what it reads', 'the bytes']}
      >
        <Pane column>
          <YamlEditor
            ref={edit}
            start={first.draft ?? first.document}
            schema={schema.data}
            problem={problem}
            onChange={setDoc}
            onDepth={(u, r) => setDepth([u, r])}
            onLine={(line) => {
              const p = pieceOfLine(x?.pieces ?? [], line)
              if (p) select(p.at, p.size)
            }}
          />
          {problem && (
            <div className="fault low" role="alert" data-problem>
              <TextButton onClick={() => edit.current?.goTo(problem.line ?? 1, problem.column ?? 1)}>
                Line {problem.line ?? '?'}, column {problem.column ?? '?'}
              </TextButton>
              : {problem.message}
              {x?.at !== undefined && works && (
                <>
                  {' '}
                  <TextButton onClick={() => select(x.at!, 1, 'bytes')}>show the byte</TextButton>
                </>
              )}
            </div>
          )}
        </Pane>
        <Pane column>
          {!entry ? (
            <Empty>
              <b>No entry is open beside it</b>Choose an entry in{' '}
              <Link to={`/p/${project}/sources`}>Sources</Link>, look at its bytes, and describe it from
              there.
            </Empty>
          ) : (
            x &&
            !x.recognised && (
              <Notice>recognise does not hold for this entry: its first bytes are others.</Notice>
            )
          )}
          <Tree
            pieces={x?.pieces ?? []}
            sel={sel}
            onChoose={(p) => {
              if (!p.in) select(p.at, p.size)
              if (p.line) edit.current?.goTo(p.line, p.column ?? 1)
            }}
          />
          <Fault error={read.error} />
        </Pane>
        <Pane column>
          {entry > 0 && size > 0 && (
            <View
              entry={entry}
              size={size}
              top={top}
              setTop={setTop}
              at={sel.at}
              length={sel.n}
              now={() => now.current}
              select={(a, n) => select(a, n, 'bytes')}
              show={12}
              marks={gap}
            />
          )}
          <Tools>
            <ToggleButtonGroup
              exclusive
              size="small"
              value={tab}
              aria-label="Show"
              onChange={(_, v: string | null) => v && setTab(v)}
            >
              <ToggleButton value="result">What comes out</ToggleButton>
              <ToggleButton value="coverage">Coverage</ToggleButton>
            </ToggleButtonGroup>
          </Tools>
          {tab === 'result' ? (
            entry > 0 ? (
              <Result
                entry={entry}
                doc={late}
                works={works && !x?.message}
                onGo={(a, n) => select(a, n, 'bytes')}
              />
            ) : null
          ) : (
            <CoveragePane
              layout={kept.id}
              project={project}
              changed={changed}
              onLine={(l, c) => edit.current?.goTo(l, c)}
            />
          )}
        </Pane>
      </Panes>
    </Bench>
  )
}
