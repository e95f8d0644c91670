// What a trial becomes: a piece of a layout, in one that is there or a new one.
import { Button, MenuItem, OutlinedInput, Select } from '@mui/material'
import { useState } from 'react'
import { useNavigate } from 'react-router'
import { useAct } from '../../api/http'
import { makeLayout, useLayouts } from '../../api/layouts'
import { fragmentOf, useFragment, type Trial } from '../../api/trials'
import { Fault } from '../../parts/bits'
import { useProjectId } from '../../parts/project'
import { Code } from '../../parts/Code'
import { Row } from '../../parts/Row'
import { TextButton } from '../../parts/TextButton'

export function Keep({ entry, trial, plain }: { entry: number; trial: Trial; plain?: boolean }) {
  const project = useProjectId()
  const go = useNavigate()
  const { act, fault } = useAct(project)
  const [opened, setOpened] = useState(0) // for which entry
  const [typed, setTyped] = useState<string>()
  const [into, setInto] = useState(0)
  const open = opened === entry
  const { data } = useLayouts(project)
  const { data: fragment, error } = useFragment(entry, trial, open)
  const own = data?.filter((l) => !l.shipped) ?? []
  const name = typed ?? fragment?.name ?? ''
  const to = (layout: number, piece?: string) =>
    void go(`/p/${project}/sources/layout/${layout}?entry=${entry}`, { state: piece && { piece } })
  const keep = () => {
    if (into) {
      act(
        () => fragmentOf(entry, trial),
        (f) => to(into, f.insert),
      )
      return
    }
    act(
      async () => makeLayout(project, name, (await fragmentOf(entry, { ...trial, name })).document),
      (l) => to(l.id),
    )
  }
  return (
    <>
      <Row wrap ask>
        {!open && (
          <Button variant="contained" onClick={() => setOpened(entry)}>
            {plain ? 'Describe it with a layout' : 'Keep in a layout'}
          </Button>
        )}
        {open && (
          <>
            <Select
              value={into}
              inputProps={{ 'aria-label': 'Layout' }}
              onChange={(e) => setInto(Number(e.target.value))}
            >
              <MenuItem value={0}>a new layout</MenuItem>
              {own.map((l) => (
                <MenuItem key={l.id} value={l.id}>
                  {l.name}
                </MenuItem>
              ))}
            </Select>
            {into === 0 && (
              <OutlinedInput
                value={name}
                onChange={(e) => setTyped(e.target.value)}
                inputProps={{ 'aria-label': 'Name of the layout', maxLength: 200 }}
              />
            )}
            <Button variant="contained" disabled={into === 0 && !name.trim()} onClick={keep}>
              {into ? 'Add to it' : 'Make it'}
            </Button>
            <TextButton onClick={() => setOpened(0)}>Not now</TextButton>
          </>
        )}
      </Row>
      <Fault error={fault ?? error} />
      {!plain && open && fragment && (
        <Code short data-kept>
          {fragment.lines}
        </Code>
      )}
    </>
  )
}
