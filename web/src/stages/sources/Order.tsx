// The left column: sources in search order, ways to add one, the name rules.
import { Button } from '@mui/material'

import { useState } from 'react'
import { useNavigate } from 'react-router'
import { useAct, type S } from '../../api/http'
import { indexSource, orderSources, removeSource } from '../../api/sources'
import { useMissing } from '../../api/links'
import { Fault } from '../../parts/bits'
import { bytes, count, plural } from '../../parts/format'
import { TakenOut } from '../../parts/TakenOut'
import { useUploads } from '../../parts/upload'
import { AddSource } from './AddSource'
import { Devices } from './Devices'
import { Missing } from './Missing'
import { NameRules } from './NameRules'
import { TermsDialog } from './Terms'
import type { Put } from '../../parts/address'
import { Empty } from '../../parts/Empty'
import { Head } from '../../parts/Head'
import { Item } from '../../parts/Item'
import { Mini } from '../../parts/Mini'
import { Pane } from '../../parts/Pane'
import { Text } from '../../parts/Text'
import { TextButton } from '../../parts/TextButton'
import { TagButton } from '../../parts/TagButton'

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
    <Pane>
      <Head plain>
        <h2>Search order</h2>
        <Text tone="soft" small>
          first wins
        </Text>
      </Head>
      <Fault error={error ?? fault ?? broken} />
      <ol aria-label="Search order">
        {sources?.map((s, i) => (
          <li
            key={s.id}
            className={`slab ${s.id === only ? 'on' : ''} ${s.parent ? 'within' : ''}`}
            data-source={s.label}
            data-state={s.state}
            data-known={s.kindsKnown}

            title={s.inside ? `${s.path} › ${s.inside}` : s.path}
          >
            <span className="no">{i + 1}</span>
            <button className="choose" aria-pressed={s.id === only} onClick={() => choose(s.id)}>
              {s.label}
              {s.format === 'folder' && s.origin !== 'device' && '/'}
            </button>
            <small>
              {s.state === 'indexing' ? (
                'being indexed'
              ) : s.state === 'failed' ? (
                <Text tone="bad">cannot be read</Text>
              ) : (
                <>
                  {s.origin === 'device' ? 'from a device' : s.isLayout ? `layout “${s.format}”` : s.format} ·{' '}
                  {count(s.entries)} {s.entries === 1 ? 'entry' : 'entries'}
                  {!s.kindsKnown && ' · reading kinds'}
                </>
              )}
            </small>
            {s.error && (
              <Text as="small" tone="bad">
                {s.error}
              </Text>
            )}
            {s.changed && (
              <Text as="small" tone="warn">
                It {s.changed}.{' '}
                <TextButton onClick={() => act(() => indexSource(s.id))}>Index again</TextButton>
              </Text>
            )}
            {s.problems.length > 0 && (
              <Text as="small" tone="warn" title={s.problems.join('\n')}>
                {plural(s.problems.length, 'problem')}: {s.problems[0]}
              </Text>
            )}
            {s.state === 'ready' && (
              <small>
                <TagButton
                  tone={
                    s.short.startsWith('terms ') ? 'plain' : s.short === 'private use only' ? 'warn' : 'good'
                  }
                  title="Whose it is and what may be done"
                  onClick={() => setTerms(s)}
                >
                  {s.short}
                </TagButton>
              </small>
            )}
            <span className="acts">
              <Mini disabled={i === 0} aria-label={`Move ${s.label} up`} onClick={() => move(i, -1)}>
                ↑
              </Mini>
              <Mini
                disabled={i === sources.length - 1}
                aria-label={`Move ${s.label} down`}
                onClick={() => move(i, 1)}
              >
                ↓
              </Mini>
              {s.state === 'failed' && <Mini onClick={() => act(() => indexSource(s.id))}>Try again</Mini>}
              <Mini
                aria-label={`Take out ${s.label}`}
                title="With what is mounted from within it, and its bookmarks. Finds stay. It can be put back."
                onClick={() => act(() => removeSource(s.id))}
              >
                Take out
              </Mini>
            </span>
          </li>
        ))}
      </ol>
      {sources?.length === 0 && (
        <Empty>
          <b>No sources yet</b>Add a game's archive, a ZIP or a folder. It is read where it lies and never
          changed.
        </Empty>
      )}
      <TakenOut project={project} kind="source" />
      <div className="drop">
        {sending ? (
          <>
            <Text clip>Taking in {sending.name}</Text>
            <br />
            <span className="meter">
              <i style={{ width: `${sending.total ? (100 * sending.sent) / sending.total : 100}%` }} />
            </span>
            <br />
            {bytes(sending.sent)} of {bytes(sending.total)} · {bytes(sending.rate)}/s{' '}
            <TextButton onClick={() => stop?.()}>Stop</TextButton>
          </>
        ) : (
          'Drop archives, folders or files anywhere'
        )}
        <br />
        <Button variant="text" onClick={() => setDialog('add')}>
          Add by path
        </Button>{' '}
        ·{' '}
        <Button variant="text" data-devices onClick={() => setDialog('devices')}>
          Connect a device
        </Button>
      </div>
      {lacking > 0 && (
        <Item between ruled>
          <span>
            <Text tone="warn">{plural(lacking, 'name')}</Text> not found
          </span>
          <TextButton onClick={() => setDialog('missing')}>Show</TextButton>
        </Item>
      )}
      <Item between ruled>
        <span>Layouts of the formats</span>
        <TextButton onClick={() => void go(`/p/${project}/sources/layouts`)}>Show</TextButton>
      </Item>
      <NameRules project={project} put={put} />
      {dialog === 'add' && <AddSource project={project} onClose={() => setDialog('')} />}
      {dialog === 'devices' && <Devices project={project} onClose={() => setDialog('')} />}
      {dialog === 'missing' && <Missing project={project} put={put} onClose={() => setDialog('')} />}
      {terms && (
        <TermsDialog
          project={project}
          source={sources?.find((s) => s.id === terms.id) ?? terms}
          onClose={() => setTerms(undefined)}
        />
      )}
    </Pane>
  )
}
