// What the project's entries need and nothing was found for, by name.
import { Dialog, DialogContent, DialogTitle } from '@mui/material'
import { useAct } from '../../api/http'
import { bind, unbind, useMissing, usePins } from '../../api/links'
import { Fault } from '../../parts/bits'
import { count, plural } from '../../parts/format'
import type { Put } from '../../parts/address'
import { Item } from '../../parts/Item'
import { Row } from '../../parts/Row'
import { Rows } from '../../parts/Scroll'
import { Text } from '../../parts/Text'
import { TextButton } from '../../parts/TextButton'

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
          <Text as="p" tone="soft">
            {plural(data.total, 'name')}, asked for by {plural(data.asked, 'entry', 'entries')}. Add the
            source that holds one and it is found by itself, or pin it to an entry by hand.
          </Text>
        )}
        <Rows>
          {data?.names.map((n) => (
            <Item key={n.ref} data-missing={n.ref}>
              <Row between>
                <Text tone="warn" mono>
                  {n.ref}
                </Text>
                <Text tone="soft" small>
                  {plural(n.count, 'entry', 'entries')}
                </Text>
              </Row>
              <small>
                asked for by{' '}
                {n.entries.slice(0, 4).map((e, i) => (
                  <span key={e.id}>
                    {i > 0 && ', '}
                    <TextButton
                      onClick={() => {
                        put({ entry: String(e.id) })
                        onClose()
                      }}
                    >
                      {e.path}
                    </TextButton>
                  </span>
                ))}
                {n.count > 4 && ` and ${count(n.count - 4)} more`}
              </small>
              <small>looked for {n.looked.join(', ')}</small>
              {n.nearest.map((e) => (
                <small key={e.id}>
                  Nearest: {e.sourceLabel} {e.path}{' '}
                  <TextButton onClick={() => act(() => bind(project, n.ref, e.id))}>Use it</TextButton>
                </small>
              ))}
            </Item>
          ))}
        </Rows>
        {(pins.data?.length ?? 0) > 0 && (
          <>
            <h2>Pinned by hand</h2>
            {pins.data!.map((p) => (
              <Item between key={p.ref} data-pin={p.ref}>
                <span>
                  <Text mono>{p.ref}</Text>
                  <small>
                    {p.sourceLabel} {p.path}
                  </small>
                </span>
                <TextButton onClick={() => act(() => unbind(project, p.ref))}>
                  Let it be looked for again
                </TextButton>
              </Item>
            ))}
          </>
        )}
      </DialogContent>
    </Dialog>
  )
}
