// Whose a source is and what may be done with it.
import {
  Button,
  Dialog,
  DialogContent,
  DialogTitle,
  OutlinedInput,
  ToggleButton,
  ToggleButtonGroup,
} from '@mui/material'
import { useState } from 'react'
import { useAct, type S } from '../../api/http'
import { stateTerms } from '../../api/sources'
import { Fault } from '../../parts/bits'
import { Code } from '../../parts/Code'
import { Form, Label } from '../../parts/Form'
import { Row } from '../../parts/Row'
import { Text } from '../../parts/Text'

export const asks: [keyof S['Terms'] & ('private' | 'shareChanged' | 'shareUnchanged' | 'sell'), string][] = [
  ['private', 'Keep for oneself'],
  ['shareChanged', 'Share changed'],
  ['shareUnchanged', 'Share unchanged'],
  ['sell', 'Sell'],
]

export function TermsDialog({
  project,
  source,
  onClose,
}: {
  project: number
  source: S['Source']
  onClose: () => void
}) {
  const [t, setT] = useState(source.terms)
  const { act, fault } = useAct(project)
  const save = () => act(() => stateTerms(source.id, t), onClose)
  const field = (k: 'owner' | 'licence' | 'evidence', label: string, hint: string, rows = 1) => (
    <Label>
      {label}
      <OutlinedInput
        fullWidth
        multiline={rows > 1}
        maxRows={6}
        value={t[k]}
        onChange={(e) => setT({ ...t, [k]: e.target.value })}
        placeholder={hint}
        inputProps={{ 'aria-label': label, maxLength: 2000 }}
      />
    </Label>
  )
  return (
    <Dialog open onClose={onClose} maxWidth="sm" fullWidth>
      <DialogTitle>Terms of {source.label}</DialogTitle>
      <DialogContent>
        <Text as="p" tone="soft">
          {t.byHand
            ? 'Stated by hand.'
            : t.evidence
              ? `Read from ${t.evidence}. What you state here counts instead.`
              : 'Nothing in the source says whose it is. State what you know; it goes with every delivery.'}
        </Text>
        <Fault error={fault} />
        <Form flush>
          {field('owner', 'Owner', 'Studio or person')}
          {field('licence', 'Licence', 'CC-BY-4.0, or in own words', 2)}
          {asks.map(([k, label]) => (
            <Row between ask key={k}>
              <span>{label}</span>
              <ToggleButtonGroup
                exclusive
                size="small"
                value={t[k]}
                aria-label={label}
                onChange={(_, v: S['Answer'] | null) => v !== null && setT({ ...t, [k]: v })}
              >
                <ToggleButton value="yes">may be done</ToggleButton>
                <ToggleButton value="no">may not</ToggleButton>
                <ToggleButton value="">not known</ToggleButton>
              </ToggleButtonGroup>
            </Row>
          ))}
          {field('evidence', 'Evidence', 'A link, or where it is written')}
          <PermissionFields of={t.permission} onChange={(permission) => setT({ ...t, permission })} />
        </Form>
        {source.licence && source.licence !== t.licence && <Code>{source.licence}</Code>}
        <Row>
          <Button variant="contained" onClick={() => save()}>
            Keep
          </Button>
          <Button onClick={onClose}>Leave as it was</Button>
        </Row>
      </DialogContent>
    </Dialog>
  )
}

/** A permission that somebody gave, with its letter: it goes with every delivery. */
function PermissionFields({
  of,
  onChange,
}: {
  of?: S['Permission']
  onChange: (p: S['Permission'] | undefined) => void
}) {
  const [fault, setFault] = useState('')
  if (!of)
    return (
      <Row>
        <Button onClick={() => onChange({ text: '' })}>Record a permission…</Button>
      </Row>
    )
  const bring = (f?: File) => {
    if (!f) return
    if (f.size > 1 << 20) {
      setFault(`${f.name} has more than 1 MB`)
      return
    }
    setFault('')
    const r = new FileReader()
    r.onload = () =>
      onChange({
        ...of,
        file: f.name,
        data: typeof r.result === 'string' ? r.result.replace(/^.*?,/, '') : '',
        sha256: undefined,
      })
    r.readAsDataURL(f)
  }
  return (
    <>
      <Label>
        Permission
        <OutlinedInput
          fullWidth
          multiline
          maxRows={6}
          value={of.text}
          onChange={(e) => onChange({ ...of, text: e.target.value })}
          placeholder="What was allowed, in whose words"
          inputProps={{ 'aria-label': 'Permission', maxLength: 4000 }}
        />
      </Label>
      <Label>
        Given on
        <OutlinedInput
          fullWidth
          value={of.date ?? ''}
          onChange={(e) => onChange({ ...of, date: e.target.value || undefined })}
          placeholder="12 November 2026"
          inputProps={{ 'aria-label': 'Given on', maxLength: 40 }}
        />
      </Label>
      <Row>
        <Button component="label">
          {of.file ? `Letter: ${of.file}` : 'Add the letter…'}
          <input type="file" hidden onChange={(e) => bring(e.target.files?.[0])} />
        </Button>
        <Button onClick={() => onChange(undefined)}>No permission</Button>
      </Row>
      {fault && (
        <Text tone="bad" small>
          {fault}
        </Text>
      )}
    </>
  )
}
