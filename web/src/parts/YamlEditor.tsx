// The editor for layouts: YAML with completion from the schema, and errors at
// the place where they are.
import {
  autocompletion,
  closeBrackets,
  completionKeymap,
  type CompletionContext,
} from '@codemirror/autocomplete'
import {
  defaultKeymap,
  history,
  historyKeymap,
  indentWithTab,
  redo,
  redoDepth,
  undo,
  undoDepth,
} from '@codemirror/commands'
import { yaml } from '@codemirror/lang-yaml'
import { bracketMatching, HighlightStyle, indentUnit, syntaxHighlighting } from '@codemirror/language'
import { setDiagnostics } from '@codemirror/lint'
import { EditorState } from '@codemirror/state'
import { drawSelection, EditorView, highlightActiveLine, keymap, lineNumbers } from '@codemirror/view'
import { tags } from '@lezer/highlight'
import { useEffect, useImperativeHandle, useRef, type Ref } from 'react'
import { mono } from '../theme'
import { suggest, type Schema } from './suggest'
import { useLatest } from './hooks'

export interface EditorHandle {
  undo: () => void
  redo: () => void
  goTo: (line: number, column?: number) => void
  insert: (text: string) => void
  replace: (doc: string) => void
}
export interface Problem {
  line?: number
  column?: number
  message: string
}

const look = EditorView.theme({
  '&': { height: '100%', fontSize: '12.5px', background: 'var(--field)', color: 'var(--ink)' },
  '&.cm-focused': { outline: '2px solid var(--slate)', outlineOffset: '-2px' },
  '.cm-scroller': { fontFamily: mono, lineHeight: '1.55' },
  '.cm-gutters': {
    background: 'var(--sunk)',
    color: 'var(--soft)',
    border: 'none',
    borderRight: '1px solid var(--line)',
  },
  '.cm-activeLine, .cm-activeLineGutter': {
    background: 'color-mix(in srgb, var(--verdiT) 55%, transparent)',
  },
  '.cm-cursor': { borderLeftColor: 'var(--ink)' },
  '&.cm-focused .cm-selectionBackground, .cm-selectionBackground': { background: 'var(--verdiT) !important' },
  '.cm-tooltip': { background: 'var(--panel)', border: '1px solid var(--line)', color: 'var(--ink)' },
  '.cm-tooltip-autocomplete ul li[aria-selected]': { background: 'var(--verdi)', color: 'var(--onVerdi)' },
  '.cm-diagnostic': { borderLeft: '3px solid var(--iron)', fontFamily: 'inherit' },
  '.cm-lintRange-error': { backgroundImage: 'none', borderBottom: '2px solid var(--iron)' },
})
const inks = syntaxHighlighting(
  HighlightStyle.define([
    {
      tag: [tags.propertyName, tags.definition(tags.propertyName)],
      color: 'var(--verdi)',
      fontWeight: '600',
    },
    { tag: [tags.string, tags.special(tags.string)], color: 'var(--ochre)' },
    { tag: tags.comment, color: 'var(--soft)', fontStyle: 'italic' },
    {
      tag: [tags.punctuation, tags.separator, tags.bracket, tags.squareBracket, tags.brace],
      color: 'var(--slate)',
    },
  ]),
)

export function YamlEditor({
  start,
  schema,
  problem,
  onChange,
  onLine,
  onDepth,
  ref,
}: {
  start: string
  schema?: Schema
  problem?: Problem
  onChange: (doc: string) => void
  onLine?: (line: number) => void
  onDepth?: (undo: number, redo: number) => void
  ref?: Ref<EditorHandle>
}) {
  const host = useRef<HTMLDivElement>(null)
  const view = useRef<EditorView>(null)
  const calls = useLatest({ onChange, onLine, onDepth, schema })
  useEffect(() => {
    const complete = (c: CompletionContext) =>
      suggest(c.state.doc.toString(), c.pos, c.explicit, calls.current.schema)
    const v = new EditorView({
      parent: host.current!,
      state: EditorState.create({
        doc: start,
        extensions: [
          lineNumbers(),
          history(),
          drawSelection(),
          highlightActiveLine(),
          bracketMatching(),
          closeBrackets(),
          yaml(),
          indentUnit.of('  '),
          inks,
          look,
          EditorState.tabSize.of(2),
          autocompletion({ override: [complete], icons: false }),
          keymap.of([...completionKeymap, ...defaultKeymap, ...historyKeymap, indentWithTab]),
          EditorView.contentAttributes.of({ 'aria-label': 'Layout', spellcheck: 'false' }),
          EditorView.updateListener.of((u) => {
            if (u.docChanged) calls.current.onChange(u.state.doc.toString())
            if (u.docChanged) calls.current.onDepth?.(undoDepth(u.state), redoDepth(u.state))
            if (u.selectionSet && !u.docChanged)
              calls.current.onLine?.(u.state.doc.lineAt(u.state.selection.main.head).number)
          }),
        ],
      }),
    })
    view.current = v
    return () => {
      v.destroy()
      view.current = null
    }
  }, []) // eslint-disable-line
  useEffect(() => {
    const v = view.current
    if (!v) return
    if (!problem) {
      v.dispatch(setDiagnostics(v.state, []))
      return
    }
    const line = v.state.doc.line(Math.min(Math.max(1, problem.line ?? 1), v.state.doc.lines))
    const from = Math.min(line.to, line.from + Math.max(0, (problem.column ?? 1) - 1))
    let to = from
    while (to < line.to && /\S/.test(line.text[to - line.from])) to++
    v.dispatch(
      setDiagnostics(v.state, [
        {
          from: Math.min(from, line.to),
          to: Math.max(to, Math.min(from + 1, line.to)),
          severity: 'error',
          message: problem.message,
        },
      ]),
    )
  }, [problem])
  useImperativeHandle(ref, () => ({
    undo: () => {
      if (view.current) undo(view.current)
    },
    redo: () => {
      if (view.current) redo(view.current)
    },
    goTo: (n, column = 1) => {
      const v = view.current
      if (!v) return
      const line = v.state.doc.line(Math.min(Math.max(1, n), v.state.doc.lines))
      v.dispatch({
        selection: { anchor: Math.min(line.to, line.from + column - 1) },
        effects: EditorView.scrollIntoView(line.from, { y: 'center' }),
      })
    },
    insert: (text) => {
      const v = view.current
      if (!v) return
      const end = v.state.doc.length
      v.dispatch({
        changes: { from: end, insert: (v.state.doc.toString().endsWith('\n') ? '' : '\n') + text },
        selection: { anchor: end },
        scrollIntoView: true,
      })
    },
    replace: (doc) => {
      const v = view.current
      if (v && v.state.doc.toString() !== doc)
        v.dispatch({ changes: { from: 0, to: v.state.doc.length, insert: doc } })
    },
  }))
  return <div className="editor" ref={host} data-editor />
}
