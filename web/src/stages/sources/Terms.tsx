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
    <label className="f">
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
    </label>
  )
  return (
    <Dialog open onClose={onClose} maxWidth="sm" fullWidth>
      <DialogTitle>Terms of {source.label}</DialogTitle>
      <DialogContent>
        <p className="soft">
          {t.byHand
            ? 'Stated by hand.'
            : t.evidence
              ? `Read from ${t.evidence}. What you state here counts instead.`
              : 'Nothing in the source says whose it is. State what you know; it goes with every delivery.'}
        </p>
        <Fault error={fault} />
        <div className="form flush">
          {field('owner', 'Owner', 'Studio or person')}
          {field('licence', 'Licence', 'CC-BY-4.0, or in own words', 2)}
          {asks.map(([k, label]) => (
            <div className="row between ask" key={k}>
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
            </div>
          ))}
          {field('evidence', 'Evidence', 'A link, or where it is written')}
        </div>
        {source.licence && source.licence !== t.licence && <pre className="code">{source.licence}</pre>}
        <div className="row">
          <Button variant="contained" onClick={() => save()}>
            Keep
          </Button>
          <Button onClick={onClose}>Leave as it was</Button>
        </div>
      </DialogContent>
    </Dialog>
  )
}
