// All layouts: the project's own and those that ship.
import { Button } from '@mui/material'
import { useNavigate } from 'react-router'
import { useAct } from '../api/http'
import { makeLayout, removeLayout, useLayouts } from '../api/layouts'
import { Fault } from '../parts/bits'
import { plural } from '../parts/format'
import { useProjectId } from '../parts/project'
import { TakenOut } from '../parts/TakenOut'
import { Empty } from '../parts/Empty'
import { Item } from '../parts/Item'
import { Row } from '../parts/Row'
import { Scroll } from '../parts/Scroll'
import { Tag } from '../parts/Tag'
import { Text } from '../parts/Text'
import { TextButton } from '../parts/TextButton'
import { Bench } from '../parts/Bench'

export function Layouts() {
  const project = useProjectId()
  const go = useNavigate()
  const { act, fault } = useAct(project)
  const { data, error } = useLayouts(project)
  const make = (name: string, document?: string) =>
    act(
      () => makeLayout(project, name, document),
      (l) => void go(`/p/${project}/sources/layout/${l.id}`),
    )
  const bring = (f?: File) => {
    if (f) void f.text().then((t) => make(f.name.replace(/\.ya?ml$/, ''), t))
  }
  return (
    <Bench>
      <div className="stripe">
        <Row wrap>
          <b>Layouts</b>
          <Text tone="soft" small>
            what describes the formats of this project
          </Text>
          <span className="grow" />
          <TextButton component="label">
            Bring in a file
            <input type="file" accept=".yaml,.yml" hidden onChange={(e) => bring(e.target.files?.[0])} />
          </TextButton>
          <TextButton onClick={() => void go(`/p/${project}/sources`)}>Back to the sources</TextButton>
        </Row>
      </div>
      <Fault error={error ?? fault} />
      <TakenOut project={project} kind="layout" />
      <Scroll className="list">
        {data?.map((l) => (
          <Item between key={`${l.id}${l.name}`} data-layout={l.name}>
            <div className="grow">
              <b>{l.name}</b>{' '}
              <Text tone="soft" small>
                {l.kind}
              </Text>{' '}
              {!l.works && <Tag tone="warn">the newest version does not compile</Tag>}
              <small>
                {l.title !== l.name ? l.title : ''}
                {l.about ? ` ${l.about}` : ''}
                {l.shipped ? '' : ` ${plural(l.versions, 'version')}`}
              </small>
            </div>
            {l.shipped ? (
              <Button onClick={() => make(`${l.name} of mine`, l.document)}>Copy to change it</Button>
            ) : (
              <>
                <Button onClick={() => void go(`/p/${project}/sources/layout/${l.id}`)}>Open</Button>
                <TextButton onClick={() => act(() => removeLayout(l.id))}>Take out</TextButton>
              </>
            )}
          </Item>
        ))}
        {data && !data.some((l) => !l.shipped) && (
          <Empty>
            <b>No layout of your own yet</b>Look at the bytes of an entry that nothing knows, and describe it
            from there.
          </Empty>
        )}
      </Scroll>
    </Bench>
  )
}
