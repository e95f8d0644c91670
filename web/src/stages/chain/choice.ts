// What is chosen of a band, as keys of the address: n and a node, p and a mesh
// with a primitive, k and a material, i and a picture.
import type { S } from '../../api/http'
import { count } from '../../parts/format'

export type Tab = 'nodes' | 'parts' | 'materials' | 'pictures'
export const tabs: [Tab, string][] = [
  ['nodes', 'Nodes'],
  ['parts', 'Parts'],
  ['materials', 'Materials'],
  ['pictures', 'Pictures'],
]

export interface Line {
  key: string
  name: string
  depth: number
  /** What stands in the columns beside the name. */
  cells: string[]
  warn?: boolean
}

const number = (n: number) => (n === 0 ? '' : count(n))

/** The nodes with each one's children right below it, else in their order. */
function treeOrder(nodes: S['Inventory']['nodes']): number[] {
  const below: number[][] = nodes.map(() => [])
  const roots: number[] = []
  nodes.forEach((n, i) => (n.parent < 0 ? roots : below[n.parent]).push(i))
  const out: number[] = []
  const todo = roots.reverse()
  for (let i = todo.pop(); i !== undefined; i = todo.pop()) {
    out.push(i)
    todo.push(...below[i].reverse())
  }
  return out
}

/** The heads of a tab's columns, the name first. */
export const heads: Record<Tab, string[]> = {
  nodes: ['Node', 'Kind', 'Triangles', 'Says'],
  parts: ['Part', 'Material', 'Triangles', 'Vertices'],
  materials: ['Material', 'Alpha', 'Triangles', 'Pictures'],
  pictures: ['Picture', 'Size', 'Materials', 'Bytes'],
}

/** The lines of a tab. */
export function lines(v: S['Inventory'], tab: Tab): Line[] {
  switch (tab) {
    case 'nodes':
      return treeOrder(v.nodes).map((i) => {
        const n = v.nodes[i]
        return {
          key: `n${i}`,
          name: n.name || `node ${i + 1}`,
          depth: n.depth,
          warn: n.unwanted,
          cells: [
            n.kind === 'node' ? 'group' : n.kind,
            n.mesh < 0 ? '' : number(v.meshes[n.mesh].parts.reduce((t, p) => t + p.triangles, 0)),
            (n.props ?? []).map((p) => `${p.key}: ${p.value}`).join(', '),
          ],
        }
      })
    case 'parts':
      return v.meshes.flatMap((m, i) =>
        m.parts.map((p, k) => ({
          key: `p${i}.${p.primitive}`,
          name: `${m.name || `mesh ${i + 1}`}${m.parts.length > 1 ? ` · ${k + 1}` : ''}`,
          depth: 0,
          cells: [
            p.material < 0 ? 'none' : v.materials[p.material].name,
            number(p.triangles),
            number(p.vertices),
          ],
        })),
      )
    case 'materials':
      return v.materials.map((m, i) => ({
        key: `k${i}`,
        name: m.name || `material ${i + 1}`,
        depth: 0,
        warn: m.textures.some((t) => t.missing),
        cells: [m.alpha, number(m.triangles), m.textures.map((t) => t.role).join(', ')],
      }))
    case 'pictures':
      return v.pictures.map((p, i) => ({
        key: `i${i}`,
        name: p.name,
        depth: 0,
        warn: p.missing,
        cells: [p.missing ? 'not found' : `${p.width} × ${p.height}`, number(p.materials), number(p.bytes)],
      }))
  }
}

/** What keys stand for, as the API has it. */
export function things(v: S['Inventory'] | undefined, keys: string[]): S['Things'] {
  const of = (mark: string) => keys.filter((k) => k.startsWith(mark)).map((k) => Number(k.slice(1)))
  const parts = keys
    .filter((k) => k.startsWith('p'))
    .flatMap((k) => {
      const [mesh, primitive] = k.slice(1).split('.').map(Number)
      const part = v?.meshes[mesh]?.parts.findIndex((p) => p.primitive === primitive) ?? -1
      return part < 0 ? [] : [[mesh, part]]
    })
  return { nodes: of('n'), parts, materials: of('k'), pictures: of('i') }
}

/** Keys as the 3D view has them: a picture is shown by its materials. */
export function lit(v: S['Inventory'] | undefined, keys: string[]): string[] {
  return keys.flatMap((k) =>
    k.startsWith('i')
      ? (v?.materials ?? []).flatMap((m, i) =>
          m.textures.some((t) => t.picture === Number(k.slice(1))) ? [`k${i}`] : [],
        )
      : [k],
  )
}
