// What can stand at a place of a YAML document, from its JSON Schema.
import type { CompletionResult } from '@codemirror/autocomplete'

export interface Schema {
  $ref?: string
  $defs?: Record<string, Schema>
  type?: string | string[]
  enum?: unknown[]
  description?: string
  properties?: Record<string, Schema>
  additionalProperties?: Schema | boolean
  items?: Schema
  anyOf?: Schema[]
  required?: string[]
}

const numbers = ['u8', 'u16', 'u24', 'u32', 'u64', 'i8', 'i16', 'i24', 'i32', 'i64', 'f16', 'f32', 'f64']
const types = [
  ...numbers,
  'ascii[n]',
  'utf8[n]',
  'latin1[n]',
  'utf16le[n]',
  'utf16be[n]',
  'shift_jis[n]',
  'cstr',
  'bytes[n]',
  'leb128',
  'vlq',
]

/** Follows references and gives every form that a value may have. */
function forms(root: Schema, s: Schema | undefined): Schema[] {
  if (!s) return []
  if (s.$ref) {
    const to = root.$defs?.[s.$ref.replace('#/$defs/', '')]
    return forms(root, to).map((f) => ({ ...f, description: s.description ?? f.description }))
  }
  return s.anyOf ? [s, ...s.anyOf.flatMap((x) => forms(root, x))] : [s]
}

/** The keys that lead to a line: [] stands for an item of a list. */
export function pathAt(lines: string[], line: number, indent: number): string[] {
  const path: string[] = []
  let deep = indent
  for (let i = line - 1; i >= 0 && deep > 0; i--) {
    const m = /^(\s*)((?:-\s+)*)(?:([\w$-]+):(?:\s.*|$))?/.exec(lines[i])
    if (!m || !lines[i].trim() || lines[i].trim().startsWith('#')) continue
    const at = m[1].length
    if (m[2] && at + m[2].length <= deep && at < deep) {
      // an item that begins here holds us
      if (m[3] && at + m[2].length < deep) path.unshift(m[3])
      path.unshift('[]')
      deep = at + (at === 0 ? 0 : 0)
      // The list's own key stands at the same depth or less.
      for (let k = i - 1; k >= 0; k--) {
        const o = /^(\s*)([\w$-]+):\s*$/.exec(lines[k])
        if (o && o[1].length <= at) {
          path.unshift(o[2])
          deep = o[1].length
          i = k
          break
        }
      }
      continue
    }
    if (m[3] && at < deep) {
      path.unshift(m[3])
      deep = at
    }
  }
  return path
}

function walk(root: Schema, path: string[]): Schema[] {
  let at = forms(root, root)
  for (const p of path) {
    at = at.flatMap((s) =>
      p === '[]'
        ? forms(root, s.items)
        : forms(
            root,
            s.properties?.[p] ??
              (typeof s.additionalProperties === 'object' ? s.additionalProperties : undefined),
          ),
    )
  }
  return at
}

/** The records that the document names. */
function records(doc: string): string[] {
  const m = /^records:\s*\n((?:[ \t]+.*\n|\s*\n)*)/m.exec(doc)
  return m ? [...m[1].matchAll(/^ {2}([\w$-]+):/gm)].map((x) => x[1]) : []
}

export function suggest(doc: string, pos: number, explicit: boolean, root?: Schema): CompletionResult | null {
  if (!root) return null
  const before = doc.slice(0, pos)
  const lines = before.split('\n')
  const now = lines[lines.length - 1]
  const value = /^(\s*)((?:-\s+)*)([\w$-]+):\s+(\S*)$/.exec(now)
  if (value) {
    const path = [
      ...pathAt(lines, lines.length - 1, value[1].length + value[2].length),
      ...(value[2] ? ['[]'] : []),
      value[3],
    ]
    // The item's list is found from its own indent.
    const full = value[2]
      ? [
          ...pathAt(lines, lines.length - 1, value[1].length || 0),
          ...listKey(lines, value[1].length),
          '[]',
          value[3],
        ]
      : path
    const at = walk(root, full)
    const words = at.flatMap((s) => s.enum ?? []).map(String)
    const inField = full[0] === 'fields' || full[0] === 'records'
    if (inField && (full[full.length - 1] === 'type' || full[full.length - 2] === '[]'))
      words.push(...types, ...records(doc))
    if (words.length === 0) return null
    return { from: pos - value[4].length, options: [...new Set(words)].map((label) => ({ label })) }
  }
  const key = /^(\s*)((?:-\s+)*)([\w$-]*)$/.exec(now)
  if (!key || (!key[3] && !explicit)) return null
  const path = key[2]
    ? [...pathAt(lines, lines.length - 1, key[1].length), ...listKey(lines, key[1].length), '[]']
    : pathAt(lines, lines.length - 1, key[1].length)
  const options = walk(root, path).flatMap((s) =>
    Object.entries(s.properties ?? {}).map(([label, x]) => ({
      label,
      apply: `${label}: `,
      detail: (x.description ?? forms(root, x).find((f) => f.description)?.description ?? '').slice(0, 70),
    })),
  )
  const seen = new Set<string>()
  const unique = options.filter((o) => !seen.has(o.label) && seen.add(o.label))
  return unique.length ? { from: pos - key[3].length, options: unique } : null
}

/** The key of the list that an item at this indent belongs to. */
function listKey(lines: string[], indent: number): string[] {
  for (let k = lines.length - 2; k >= 0; k--) {
    const o = /^(\s*)([\w$-]+):\s*$/.exec(lines[k])
    if (o && o[1].length <= indent) return [o[2]]
  }
  return []
}
