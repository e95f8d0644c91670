// The left column: sources in search order, ways to add one, the name rules.
import { Button } from '@mui/material'
import { useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { useNavigate } from 'react-router'
import { refresh, useAct, type S } from '../../api/http'
import { indexSource, orderSources, removeSource } from '../../api/sources'
import { useMissing } from '../../api/links'
import { Fault } from '../../parts/bits'
import { bytes, count, plural } from '../../parts/format'
import { TakenOut } from '../../parts/TakenOut'
import { takeIn, useUploads } from '../../parts/upload'
import { AddSource } from './AddSource'
import { Devices } from './Devices'
import { Missing } from './Missing'
import { NameRules } from './NameRules'
import { TermsDialog } from './Terms'
import type { Put } from '../../parts/address'

export function Order({
  project,
  sources,
  error,
  only,
  put,
}: {
  project: number
  sources?: S['Source'][]
  error: unknown
  only: number
  put: Put
}) {
  const q = useQueryClient()
  const [dialog, setDialog] = useState<'add' | 'devices' | 'missing' | ''>('')
  const [terms, setTerms] = useState<S['Source']>()
  const { sending, fault: broken, stop } = useUploads()
  const missing = useMissing(project)
  const go = useNavigate()
  const { act, fault } = useAct(project)
  const move = (i: number, by: number) => {
    const ids = sources!.map((s) => s.id)
    ids.splice(i + by, 0, ...ids.splice(i, 1))
    act(() => orderSources(project, ids))
  }
  const choose = (id: number) => put({ source: id === only ? '' : String(id) })
  const lacking = missing.data?.total ?? 0
  return (
    <div className="pane">
      <div className="head bare">
        <h2>Search order</h2>
        <span className="soft small">first wins</span>
      </div>
      <Fault error={error ?? fault ?? broken} />
      {sources?.map((s, i) => (
        <div
          key={s.id}
          role="button"
          tabIndex={0}
          className={`slab ${s.id === only ? 'on' : ''} ${s.parent ? 'within' : ''}`}
          aria-pressed={s.id === only}
          data-source={s.label}
          data-state={s.state}
          data-known={s.kindsKnown}
          onClick={() => choose(s.id)}
          onKeyDown={(e) => {
            if (e.target === e.currentTarget && (e.key === 'Enter' || e.key === ' ')) {
              e.preventDefault()
              choose(s.id)
            }
          }}
          title={s.inside ? `${s.path} › ${s.inside}` : s.path}
        >
          <span className="no">{i + 1}</span>
          <b className="clip">
            {s.label}
            {s.format === 'folder' && s.origin !== 'device' && '/'}
          </b>
          <small>
            {s.state === 'indexing' ? (
              'being indexed'
            ) : s.state === 'failed' ? (
              <span className="bad">cannot be read</span>
            ) : (
              <>
                {s.origin === 'device' ? 'from a device' : s.isLayout ? `layout “${s.format}”` : s.format} ·{' '}
                {count(s.entries)} {s.entries === 1 ? 'entry' : 'entries'}
                {!s.kindsKnown && ' · reading kinds'}
              </>
            )}
          </small>
          {s.error && <small className="bad">{s.error}</small>}
          {s.changed && (
            <small className="warn">
              It {s.changed}.{' '}
              <button
                className="link"
                onClick={(e) => {
                  e.stopPropagation()
                  act(() => indexSource(s.id))
                }}
              >
                Index again
              </button>
            </small>
          )}
          {s.problems.length > 0 && (
            <small className="warn" title={s.problems.join('\n')}>
              {plural(s.problems.length, 'problem')}: {s.problems[0]}
            </small>
          )}
          {s.state === 'ready' && (
            <small>
              <button
                className={`tag ${s.short.startsWith('terms ') ? '' : s.short === 'private use only' ? 'w' : 'g'}`}
                title="Whose it is and what may be done"
                onClick={(e) => {
                  e.stopPropagation()
                  setTerms(s)
                }}
              >
                {s.short}
              </button>
            </small>
          )}
          <span className="acts" onClick={(e) => e.stopPropagation()}>
            <button
              className="mini"
              disabled={i === 0}
              aria-label={`Move ${s.label} up`}
              onClick={() => move(i, -1)}
            >
              ↑
            </button>
            <button
              className="mini"
              disabled={i === sources.length - 1}
              aria-label={`Move ${s.label} down`}
              onClick={() => move(i, 1)}
            >
              ↓
            </button>
            {s.state === 'failed' && (
              <button className="mini" onClick={() => act(() => indexSource(s.id))}>
                Try again
              </button>
            )}
            <button
              className="mini"
              aria-label={`Take out ${s.label}`}
              title="With what is mounted from within it, and its bookmarks. Finds stay. It can be put back."
              onClick={() => act(() => removeSource(s.id))}
            >
              Take out
            </button>
          </span>
        </div>
      ))}
      {sources?.length === 0 && (
        <div className="empty">
          <b>No sources yet</b>Add a game's archive, a ZIP or a folder. It is read where it lies and never
          changed.
        </div>
      )}
      <TakenOut project={project} kind="source" />
      <div className="drop">
        {sending ? (
          <>
            <span className="clip">Taking in {sending.name}</span>
            <br />
            <span className="meter">
              <i style={{ width: `${sending.total ? (100 * sending.sent) / sending.total : 100}%` }} />
            </span>
            <br />
            {bytes(sending.sent)} of {bytes(sending.total)} · {bytes(sending.rate)}/s{' '}
            <button className="link" onClick={() => stop?.()}>
              Stop
            </button>
          </>
        ) : (
          'Drop archives, folders or files anywhere'
        )}
        <br />
        <Button variant="text" onClick={() => setDialog('add')}>
          Add by path
        </Button>{' '}
        ·{' '}
        <Button variant="text" onClick={() => setDialog('devices')}>
          Connect a device
        </Button>
      </div>
      {lacking > 0 && (
        <div className="item row between top">
          <span>
            <span className="warn">{plural(lacking, 'name')}</span> not found
          </span>
          <button className="link" onClick={() => setDialog('missing')}>
            Show
          </button>
        </div>
      )}
      <div className="item row between top">
        <span>Layouts of the formats</span>
        <button className="link" onClick={() => go(`/p/${project}/sources/layouts`)}>
          Show
        </button>
      </div>
      <NameRules project={project} put={put} />
      {dialog === 'add' && (
        <AddSource
          project={project}
          mounted={sources ?? []}
          onFiles={(l) => {
            setDialog('')
            takeIn(project, l, () => void refresh(q, project))
          }}
          onClose={() => setDialog('')}
        />
      )}
      {dialog === 'devices' && <Devices project={project} onClose={() => setDialog('')} />}
      {dialog === 'missing' && <Missing project={project} put={put} onClose={() => setDialog('')} />}
      {terms && (
        <TermsDialog
          project={project}
          source={sources?.find((s) => s.id === terms.id) ?? terms}
          onClose={() => setTerms(undefined)}
        />
      )}
    </div>
  )
}
