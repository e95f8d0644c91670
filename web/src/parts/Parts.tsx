// Every own component in its states, on one page that no menu leads to.
import {
  Button,
  MenuItem,
  OutlinedInput,
  Select,
  styled,
  Table,
  TableBody,
  TableCell,
  TableRow,
} from '@mui/material'
import { useEffect, useState } from 'react'
import { Fault } from './bits'
import { Body } from './Body'
import { Code } from './Code'
import { Empty } from './Empty'
import { Facts } from './Facts'
import { Finding } from './Finding'
import { Form, Label, Pair } from './Form'
import { Head } from './Head'
import { Item } from './Item'
import { Meter } from './Meter'
import { Mini } from './Mini'
import { Notice } from './Notice'
import { Pane } from './Pane'
import { Panes } from './Panes'
import { Row } from './Row'
import { SchemaForm } from './SchemaForm'
import { Tag } from './Tag'
import { TagButton } from './TagButton'
import { Text } from './Text'
import { TextButton } from './TextButton'
import { Tone } from './Tone'
import { Tools } from './Tools'

const Page = styled('main')({ height: '100%', minWidth: 0, '& h1': { fontSize: 20, margin: '14px 18px' } })

const tones = ['good', 'warn', 'bad', 'soft'] as const

export function Parts() {
  const [length, setLength] = useState<Record<string, unknown>>({ distance: 0.0001 })
  useEffect(() => {
    document.title = 'Parts · Excavate'
  }, [])
  return (
    <Page data-parts>
      <Panes
        id="parts"
        widths={[{ of: 380, least: 260 }, 'rest', { of: 360, least: 260 }]}
        labels={['words', 'lists', 'forms']}
      >
        <Pane>
          <h1>Parts</h1>
          <Head title="A head with its sum" end={<Tag tone="warn">2 missing</Tag>} />
          <Body>
            {tones.map((t) => (
              <Row key={t} wrap>
                <Tone is={t}>a tone: {t}</Tone>
                <Text tone={t} small>
                  small
                </Text>
                <Text tone={t} mono>
                  0x1f
                </Text>
              </Row>
            ))}
            <Row wrap ask>
              <Tag>plain</Tag>
              <Tag tone="good">ready</Tag>
              <Tag tone="warn">warns</Tag>
              <Tag tone="bad">stops</Tag>
              <TagButton tone="good" aria-pressed>
                chosen
              </TagButton>
              <TagButton aria-pressed={false}>a choice</TagButton>
            </Row>
            <Row wrap ask>
              <Button variant="contained">The main action</Button>
              <Button>Another</Button>
              <Button disabled>Not now</Button>
              <Mini>small</Mini>
              <TextButton>in a text</TextButton>
            </Row>
            <p>
              <Meter part={0.4} /> 40 %
            </p>
          </Body>
          <Notice>Something to know before going on.</Notice>
          <Fault
            error={{ message: 'hulls.tide ends at byte 4,096; the directory says 8,192', at: 'offset 4096' }}
          />
          <Empty title="Nothing here yet">
            What to do first stands here, in the order in which it is done.
          </Empty>
        </Pane>
        <Pane ground>
          <Tools low>
            <OutlinedInput placeholder="Part of a name" inputProps={{ 'aria-label': 'A field' }} />
            <span className="grow" />
            <Tone is="soft">12 of 40</Tone>
          </Tools>
          <Finding>
            <div className="tg">
              <Tag tone="bad">stops</Tag>
            </div>
            <div className="grow">
              <b>The root bone has another name</b>
              <small>“_ROOT”, the target wants “root”</small>
              <p>The target could not merge the skeleton with its own.</p>
            </div>
            <Button variant="contained">Rename it</Button>
          </Finding>
          <Item between>
            <span>
              <b>punt.hull</b>
              <small>hulls.tide, 21 KB</small>
            </span>
            <TextButton>Show</TextButton>
          </Item>
          <Head title="Facts" plain />
          <Facts
            of={[
              ['Triangles', '6,752'],
              ['Height', '2.22 m'],
              ['Basis', 'Z up, front −Y, left-handed, centimetres'],
            ]}
          />
          <Table size="small" aria-label="A table of figures">
            <TableBody>
              {[
                ['Vertices', '7,154', '3,840'],
                ['Nodes', '32', '28'],
              ].map(([what, before, after]) => (
                <TableRow key={what}>
                  <TableCell>{what}</TableCell>
                  <TableCell align="right">{before}</TableCell>
                  <TableCell align="right">{after}</TableCell>
                </TableRow>
              ))}
            </TableBody>
          </Table>
          <Code short tabIndex={0} aria-label="A piece of a file">
            {'picture:\n  width: 256\n  height: 256'}
          </Code>
        </Pane>
        <Pane>
          <Head title="Fields" />
          <Form>
            <Label>
              A choice
              <Select fullWidth value="little" inputProps={{ 'aria-label': 'A choice' }}>
                <MenuItem value="little">little</MenuItem>
                <MenuItem value="big">big</MenuItem>
              </Select>
            </Label>
            <Pair>
              <Label>
                From
                <OutlinedInput fullWidth defaultValue="2" inputProps={{ 'aria-label': 'From' }} />
              </Label>
              <Label>
                To
                <OutlinedInput fullWidth error defaultValue="x" inputProps={{ 'aria-label': 'To' }} />
              </Label>
            </Pair>
            <SchemaForm
              schema={{
                type: 'object',
                properties: {
                  distance: {
                    type: 'number',
                    title: 'A length in its one unit',
                    unit: 'm',
                    shown: 'mm',
                    minimum: 0,
                    maximum: 1,
                  },
                },
              }}
              order={['distance']}
              value={length}
              onChange={setLength}
            />
          </Form>
        </Pane>
      </Panes>
    </Page>
  )
}
