// The first stage: what is mounted, what it holds, what an entry is and needs.
import type { S } from '../api/http'
import { useSources } from '../api/sources'
import { useAddress, type Put } from '../parts/address'
import { useProjectId } from '../parts/project'
import { Order } from './sources/Order'
import { Preview } from './sources/Preview'
import { Entries } from './sources/Table'
import { Panes } from '../parts/Panes'
import { SourcesFrame } from './sources/Frame'
import { useHeld } from '../parts/hooks'

export function Sources() {
  const project = useProjectId()
  const { data: sources, error } = useSources(project)
  const [params, write] = useAddress()
  // The entry is shown at once; the address follows when the walk along the
  // entries pauses.
  const named = Number(params.get('entry') ?? 0)
  const [entry, show] = useHeld(named, (e) => write({ entry: e }))
  const put: Put = ({ entry: e, ...changes }) => {
    if (e !== undefined) show(Number(e))
    if (Object.keys(changes).length > 0) write(changes)
  }
  const filter: S['Filter'] = {}
  const text = (k: string) => params.get(k) || undefined
  filter.q = text('q')
  filter.kind = text('kind') as S['Kind'] | undefined
  filter.set = text('set')
  filter.source = Number(params.get('source')) || undefined
  filter.min = Number(params.get('min')) || undefined
  filter.max = Number(params.get('max')) || undefined
  return (
    <SourcesFrame>
      <Panes
        id="sources"
        widths={[{ of: 268, least: 200 }, 'rest', { of: 320, least: 240 }]}
        labels={['search order', 'entries', 'preview']}
      >
        <Order project={project} sources={sources} error={error} only={filter.source ?? 0} put={put} />
        <Entries
          project={project}
          sources={sources}
          filter={filter}
          view={params.get('view') ?? 'flat'}
          sort={params.get('sort') ?? ''}
          open={params.get('open') ?? ''}
          sel={params.get('sel') ?? ''}
          entry={entry}
          put={put}
        />
        <Preview project={project} entry={entry} put={put} />
      </Panes>
    </SourcesFrame>
  )
}
