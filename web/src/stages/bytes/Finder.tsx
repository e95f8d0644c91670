// Looking for bytes, texts and numbers in an entry.
import { OutlinedInput } from '@mui/material'
import { useState } from 'react'
import { findBytes } from '../../api/entries'
import { count } from '../../parts/format'
import { Mini } from '../../parts/Mini'
import { Text } from '../../parts/Text'
import { Tools } from '../../parts/Tools'
import { hex, offset } from './offset'

export function Finder({
  at,
  size,
  entry,
  onGo,
  onFault,
  canBack,
  canForth,
  onBack,
  onForth,
}: {
  at: number
  size: number
  entry: number
  onGo: (n: number, len?: number) => void
  onFault: (e: unknown) => void
  canBack: boolean
  canForth: boolean
  onBack: () => void
  onForth: () => void
}) {
  const [to, setTo] = useState('')
  const [pattern, setPattern] = useState('')
  const [found, setFound] = useState('')
  const jump = () => {
    const n = offset(to)
    if (n === undefined || n >= size)
      onFault(
        new Error(
          `${to || 'Nothing'} is no offset in this entry: it has ${count(size)} bytes, from 0 to ${count(size - 1)} or 0x${hex(size - 1)}`,
        ),
      )
    else {
      onFault(undefined)
      onGo(n)
    }
  }
  const find = async () => {
    onFault(undefined)
    try {
      const r = await findBytes(entry, pattern, at + 1)
      if (r.at < 0) setFound('none from here on')
      else {
        setFound('')
        onGo(r.at, r.length)
      }
    } catch (e) {
      onFault(e)
    }
  }
  return (
    <Tools>
      <Mini disabled={!canBack} aria-label="Back" onClick={onBack}>
        ←
      </Mini>
      <Mini disabled={!canForth} aria-label="Forward" onClick={onForth}>
        →
      </Mini>
      <form
        onSubmit={(e) => {
          e.preventDefault()
          jump()
        }}
      >
        <OutlinedInput
          value={to}
          onChange={(e) => setTo(e.target.value)}
          placeholder="Go to 0x40"
          inputProps={{ 'aria-label': 'Go to', className: 'mono', size: 9 }}
        />
      </form>
      <form
        className="grow"
        onSubmit={(e) => {
          e.preventDefault()
          void find()
        }}
      >
        <OutlinedInput
          fullWidth
          value={pattern}
          onChange={(e) => setPattern(e.target.value)}
          placeholder='Find 48 ?? 4c, or "text"'
          inputProps={{ 'aria-label': 'Find bytes', className: 'mono', spellCheck: false }}
        />
      </form>
      {found && (
        <Text tone="warn" small>
          {found}
        </Text>
      )}
    </Tools>
  )
}
