// Saves a find in another format: all that it can be written as, what keeps
// most first, each with what would be lost.
import { Button, Dialog, DialogContent, DialogTitle } from '@mui/material'
import { useState } from 'react'
import { findFile, useSaveChoices } from '../api/finds'
import { Fault } from './bits'
import { plural } from './format'
import { Item } from './Item'
import { Text } from './Text'

export function SaveAs({ find, name }: { find: number; name: string }) {
  const [open, setOpen] = useState(false)
  const { data: list, error } = useSaveChoices(find, open)
  return (
    <>
      <Button onClick={() => setOpen(true)}>Save as…</Button>
      <Dialog open={open} onClose={() => setOpen(false)} fullWidth maxWidth="sm">
        <DialogTitle>Save {name}</DialogTitle>
        <DialogContent data-choices={list?.length}>
          <Fault error={error} />
          {!list && !error && (
            <Text as="p" tone="soft">
              Each format is asked what it can carry…
            </Text>
          )}
          {list?.map((f) => (
            <Item between key={f.format} data-format={f.format}>
              <div className="grow">
                <b>{f.title}</b> <Text tone="soft">{f.ending}</Text>
                {f.refused ? (
                  <Text as="small" tone="bad">
                    {f.refused}
                  </Text>
                ) : (
                  f.losses === 0 && (
                    <Text as="small" tone="good">
                      everything is carried
                    </Text>
                  )
                )}
                {!f.refused &&
                  f.notes.map((n) => (
                    <small key={n.text} className={n.loss ? 'warn' : 'soft'}>
                      {n.text}
                    </small>
                  ))}
              </div>
              <Button
                component="a"
                disabled={!!f.refused}
                href={findFile(find, f.format)}
                aria-label={`Save as ${f.title}, ${f.losses ? `without ${plural(f.losses, 'thing')}` : 'whole'}`}
              >
                Save
              </Button>
            </Item>
          ))}
        </DialogContent>
      </Dialog>
    </>
  )
}
