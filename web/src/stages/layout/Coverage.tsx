// Which entries of the sources a layout fits, and how well.
import { Button } from '@mui/material'
import { useNavigate } from 'react-router'
import { useAct } from '../../api/http'
import { runCoverage, useCoverage } from '../../api/layouts'
import { Fault } from '../../parts/bits'
import { bytes, count } from '../../parts/format'
import { Body } from '../../parts/Body'
import { FactGrid } from '../../parts/Facts'
import { Head } from '../../parts/Head'
import { Item } from '../../parts/Item'
import { Scroll } from '../../parts/Scroll'
import { Text } from '../../parts/Text'
import { TextButton } from '../../parts/TextButton'

export function CoveragePane({
  layout,
  project,
  changed,
  onLine,
}: {
  layout: number
  project: number
  changed: boolean
  onLine: (line: number, column: number) => void
}) {
  const go = useNavigate()
  const { act, fault } = useAct(project)
  const { data: c, error } = useCoverage(project, layout)
  const open = (entry: number, at?: number) =>
    void go(`/p/${project}/sources/layout/${layout}?entry=${entry}${at ? `&at=${at}` : ''}`)
  return (
    <Scroll data-coverage={c && !c.running && c.version ? c.entries : ''}>
      <Body className="row wrap">
        <Button onClick={() => act(() => runCoverage(layout))} disabled={c?.running}>
          {c?.running ? 'Running…' : 'Run over all it recognises'}
        </Button>
        {changed && (
          <Text tone="soft" small>
            runs the version that is kept
          </Text>
        )}
      </Body>
      <Fault error={error ?? fault} />
      {c && c.version > 0 && (
        <>
          <FactGrid>
            <span>Entries</span>
            <div>
              {count(c.entries)} recognised by version {c.version}
            </div>
            <span>Opened</span>
            <div className={c.failed ? '' : 'ok'}>{count(c.opened)}</div>
            <span>Failed</span>
            <div className={c.failed ? 'bad' : ''}>{count(c.failed)}</div>
            <span>Explained</span>
            <div>
              {c.bytes ? `${Math.floor((100 * c.explained) / c.bytes)} % of ${bytes(c.bytes)}` : 'nothing'}
            </div>
          </FactGrid>
          {c.faults.length > 0 && (
            <Head plain>
              <h2>Failed at</h2>
            </Head>
          )}
          {c.faults.map((f, i) => (
            <Item key={i}>
              <Text tone="bad">{count(f.count)}×</Text>{' '}
              {f.line ? (
                <TextButton onClick={() => onLine(f.line!, f.column ?? 1)}>
                  line {f.line}, column {f.column}
                </TextButton>
              ) : null}{' '}
              {f.message}
              <small>
                first in <TextButton onClick={() => open(f.entry, f.at)}>{f.path}</TextButton>
                {f.at !== undefined && ` at offset ${count(f.at)}`}
              </small>
            </Item>
          ))}
          {c.worst.some((w) => w.explained < w.size) && (
            <Head plain>
              <h2>Least explained</h2>
            </Head>
          )}
          {c.worst
            .filter((w) => w.explained < w.size)
            .slice(0, 12)
            .map((w) => (
              <Item key={w.entry}>
                <TextButton onClick={() => open(w.entry)}>{w.path}</TextButton>
                <small>
                  {count(w.size - w.explained)} of {count(w.size)} bytes are not explained
                </small>
              </Item>
            ))}
        </>
      )}
    </Scroll>
  )
}
