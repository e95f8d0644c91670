// The one table of stages and pages: the bar, the routes, the shortcuts and the
// titles come from here. A page's code is loaded when it is opened.
import { lazy, type ComponentType } from 'react'

export interface Stage {
  id: 'sources' | 'finds' | 'chain' | 'rehearsal' | 'delivery'
  title: string
  /** Which of the assets the stage's address names: a find, or a chain of one. */
  names: 'nothing' | 'find' | 'chain'
}

/** The stages in the order of the work; the keys 1 to 5 lead to them. */
export const stages: Stage[] = [
  { id: 'sources', title: 'Sources', names: 'nothing' },
  { id: 'finds', title: 'Finds', names: 'find' },
  { id: 'chain', title: 'Chain', names: 'chain' },
  { id: 'rehearsal', title: 'Rehearsal', names: 'chain' },
  { id: 'delivery', title: 'Delivery', names: 'chain' },
]

export interface Page {
  stage: Stage['id']
  /** Below the project's address. */
  path: string
  title: string
  /** Fetches the page's code, if it is not here yet. */
  load: () => Promise<{ default: ComponentType }>
  Component: ComponentType
}

function page(stage: Stage['id'], path: string, title: string, get: () => Promise<ComponentType>): Page {
  const load = async () => ({ default: await get() })
  // Lazy as a component, not as a route: an address changes at once, and what
  // comes late of the page before knows that it was left.
  return { stage, path, title, load, Component: lazy(load) }
}

export const pages: Page[] = [
  page('sources', 'sources', 'Sources', async () => (await import('./stages/Sources')).Sources),
  page('sources', 'sources/bytes/:entry', 'Bytes', async () => (await import('./stages/Bytes')).Bytes),
  page('sources', 'sources/layouts', 'Layouts', async () => (await import('./stages/Layouts')).Layouts),
  page(
    'sources',
    'sources/layout/:layout',
    'Layout',
    async () => (await import('./stages/Layout')).LayoutPage,
  ),
  page('finds', 'finds', 'Finds', async () => (await import('./stages/Gallery')).Gallery),
  page('finds', 'finds/:find', 'Find', async () => (await import('./stages/Finds')).Finds),
  page('chain', 'over', 'Chain over many', async () => (await import('./stages/Over')).Over),
  page('chain', 'chain/:chain?', 'Chain', async () => (await import('./stages/Chain')).Chain),
  page(
    'rehearsal',
    'rehearsal/:chain?',
    'Rehearsal',
    async () => (await import('./stages/Rehearsal')).Rehearsal,
  ),
  page(
    'rehearsal',
    'targets/:target?',
    'Target sheets',
    async () => (await import('./stages/Targets')).Targets,
  ),
  page('rehearsal', 'rehearsals', 'Rehearsals', async () => (await import('./stages/Rehearsals')).Rehearsals),
  page('delivery', 'paper', 'Paper', async () => (await import('./stages/Paper')).Paper),
  page('delivery', 'delivery/:chain?', 'Delivery', async () => (await import('./stages/Delivery')).Delivery),
]

/** The shortcuts, as the list of them shows them. */
export const shortcuts: [string, string][] = [
  ['/', 'search entries'],
  ['1 to 5', 'stages'],
  [', and .', 'one band down and up'],
  ['\\', 'compare the chosen band with the one below it'],
  ['=', 'fit the view'],
  ['?', 'this list'],
]
