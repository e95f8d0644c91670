// Bytes read as records of fields.
import {
  Button,
  MenuItem,
  OutlinedInput,
  Select,
  Table,
  TableHead,
  TableBody,
  TableRow,
  TableCell,
} from '@mui/material'
import { useState } from 'react'
import { useRecords, type Order } from '../../api/trials'
import { Fault } from '../../parts/bits'
import { Keep } from './Keep'
import { Body } from '../../parts/Body'
import { Form, Label } from '../../parts/Form'
import { Row } from '../../parts/Row'
import { Scroll } from '../../parts/Scroll'
import { Text } from '../../parts/Text'
import { num } from './MeshTrial'

export function RecordTrial({
  entry,
  at,
  length,
  onGo,
}: {
  entry: number
  at: number
  length: number
  onGo: (at: number, n: number) => void
}) {
  const [spec, setSpec] = useState('')
  const [stride, setStride] = useState('')
  const [order, setOrder] = useState<Order>('little')
  const [rows, setRows] = useState('64')
  const asked = {
    at,
    columns: spec.trim() || undefined,
    stride: num(stride),
    count: Math.min(num(rows) ?? 64, 4096),
    order,
  }
  const t = useRecords(entry, asked, true)
  const d = t.data
  return (
    <Scroll column>
      <Form>
        <Label>
          Columns
          <OutlinedInput
            fullWidth
            value={spec}
            onChange={(e) => setSpec(e.target.value)}
            placeholder={d ? `guessed: ${d.spec}` : 'u32 f32x3 ascii8 -4'}
            inputProps={{ 'aria-label': 'Columns', className: 'mono', spellCheck: false }}
          />
        </Label>
        <Row wrap low>
          <Label>
            Record
            <OutlinedInput
              value={stride}
              onChange={(e) => setStride(e.target.value)}
              placeholder={d ? String(d.stride) : 'guessed'}
              inputProps={{ 'aria-label': 'Record size', className: 'mono', size: 6 }}
              endAdornment={<Text tone="soft">bytes</Text>}
            />
          </Label>
          <Label>
            Rows
            <OutlinedInput
              value={rows}
              onChange={(e) => setRows(e.target.value)}
              inputProps={{ 'aria-label': 'Rows', className: 'mono', size: 4 }}
            />
          </Label>
          <Label>
            Byte order
            <Select
              value={order}
              onChange={(e) => setOrder(e.target.value)}
              inputProps={{ 'aria-label': 'Byte order' }}
            >
              <MenuItem value="little">little</MenuItem>
              <MenuItem value="big">big</MenuItem>
            </Select>
          </Label>
          {d && !spec && (
            <Button
              onClick={() => {
                setSpec(d.spec)
                setStride(String(d.stride))
              }}
            >
              Take the guess
            </Button>
          )}
        </Row>
        {d?.evidence && (
          <Text as="div" tone="soft" small data-evidence>
            {d.stride} bytes a record: {d.evidence}.
          </Text>
        )}
        <Fault error={t.error} />
      </Form>
      {d && (
        <div className="sheet" data-sheet={d.spec} tabIndex={0} role="region" aria-label="Records">
          <Table size="small">
            <TableHead>
              <TableRow>
                <TableCell>At</TableCell>
                {d.columns.map((c, i) => (
                  <TableCell key={i} title={c.looks}>
                    {c.type}
                    <small>+{c.at}</small>
                  </TableCell>
                ))}
              </TableRow>
              <TableRow className="soft small">
                <TableCell />
                {d.columns.map((c, i) => (
                  <TableCell key={i}>
                    {c.looks}
                    {c.low && (
                      <>
                        <br />
                        {c.low} to {c.high}
                      </>
                    )}
                  </TableCell>
                ))}
              </TableRow>
            </TableHead>
            <TableBody>
              {d.rows.map((r, i) => (
                <TableRow key={i} onClick={() => onGo(at + i * d.stride, d.stride)}>
                  <TableCell className="soft">{(at + i * d.stride).toString(16)}</TableCell>
                  {r.map((v, k) => (
                    <TableCell key={k}>{v}</TableCell>
                  ))}
                </TableRow>
              ))}
            </TableBody>
          </Table>
        </div>
      )}
      {d && d.columns.length > 0 && (
        <Body>
          <Keep entry={entry} trial={{ records: { ...asked, size: length > 1 ? length : undefined } }} />
        </Body>
      )}
    </Scroll>
  )
}
