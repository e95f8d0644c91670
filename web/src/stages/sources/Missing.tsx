// What the project's entries need and nothing was found for, by name.
import { Dialog, DialogContent, DialogTitle } from '@mui/material'
import { useAct } from '../../api/http'
import { bind, unbind, useMissing, usePins } from '../../api/links'
import { Fault } from '../../parts/bits'
import { count, plural } from '../../parts/format'
import type { Put } from '../../parts/address'

export function Missing({ project, put, onClose }: { project: number; put: Put; onClose: () => void }) {
  const { data, error } = useMissing(project)
  const pins = usePins(project)
  const { act, fault } = useAct(project)
  return (
    <Dialog open onClose={onClose} maxWidth="md" fullWidth>
      <DialogTitle>Names that were not found</DialogTitle>
      <DialogContent>
        <Fault error={error ?? fault} />
        {data && (
          <p className="soft">
            {plural(data.total, 'name')}, asked for by {plural(data.asked, 'entry', 'entries')}. Add the
            source that holds one and it is found by itself, or pin it to an entry by hand.
          </p>
        )}
        <div className="rows">
          {data?.names.map((n) => (
            <div className="item" key={n.ref} data-missing={n.ref}>
              <div className="row between">
                <span className="warn mono">{n.ref}</span>
                <span className="soft small">{plural(n.count, 'entry', 'entries')}</span>
              </div>
              <small>
                asked for by{' '}
                {n.entries.slice(0, 4).map((e, i) => (
                  <span key={e.id}>
                    {i > 0 && ', '}
                    <button
                      className="link"
                      onClick={() => {
                        put({ entry: String(e.id) })
                        onClose()
                      }}
                    >
                      {e.path}
                    </button>
                  </span>
                ))}
                {n.count > 4 && ` and ${count(n.count - 4)} more`}
              </small>
              <small>looked for {n.looked.join(', ')}</small>
              {n.nearest.map((e) => (
                <small key={e.id}>
                  Nearest: {e.sourceLabel} {e.path}{' '}
                  <button className="link" onClick={() => act(() => bind(project, n.ref, e.id))}>
                    Use it
                  </button>
                </small>
              ))}
            </div>
          ))}
        </div>
        {(pins.data?.length ?? 0) > 0 && (
          <>
            <h2>Pinned by hand</h2>
            {pins.data!.map((p) => (
              <div className="item row between" key={p.ref} data-pin={p.ref}>
                <span>
                  <span className="mono">{p.ref}</span>
                  <small>
                    {p.sourceLabel} {p.path}
                  </small>
                </span>
                <button className="link" onClick={() => act(() => unbind(project, p.ref))}>
                  Let it be looked for again
                </button>
              </div>
            ))}
          </>
        )}
      </DialogContent>
    </Dialog>
  )
}
