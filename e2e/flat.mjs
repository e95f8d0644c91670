// GLB, OBJ, PLY, STL and VRML by software that is not ours: three's loaders and
// exporters. `read FILES` prints one JSON object a file; `write DIR` writes
// files for our readers.
import { mkdirSync, readFileSync, writeFileSync } from 'node:fs'
import { fileURLToPath, pathToFileURL } from 'node:url'

const web = fileURLToPath(new URL('../web/', import.meta.url))
const from = (p) => import(pathToFileURL(web + 'node_modules/three/' + p).href)
const THREE = await from('build/three.module.js')
globalThis.self ??= globalThis
globalThis.ProgressEvent ??= class { constructor(type) { this.type = type } }
// Pictures need a browser; here they are only asked for.
THREE.TextureLoader.prototype.load = function () { return new THREE.Texture() }
// What a loader takes: the bytes by themselves, made before the clock starts.
const cut = (b) => b.buffer.slice(b.byteOffset, b.byteOffset + b.byteLength)
const text = (b) => new TextDecoder().decode(b)
const loader = async (name) => new (await from(`examples/jsm/loaders/${name}.js`))[name]()
// What reads a file's bytes, once the loader itself is there.
const loaders = {
  obj: async () => { const l = await loader('OBJLoader'); return (b) => l.parse(text(b)) },
  ply: async () => { const l = await loader('PLYLoader'); return (b) => new THREE.Mesh(l.parse(b)) },
  glb: async () => { const l = await loader('GLTFLoader'); return async (b) => (await l.parseAsync(b, '')).scene },
  wrl: async () => { const l = await loader('VRMLLoader'); return (b) => l.parse(text(b), '') },
  stl: async () => { const l = await loader('STLLoader'); return (b) => new THREE.Mesh(l.parse(b)) },
}
const figures = (o) => {
  const out = { triangles: 0, min: [], max: [], uvs: false, normals: false, colours: false, names: [], materials: [] }
  const box = new THREE.Box3()
  o.updateMatrixWorld(true)
  o.traverse((m) => {
    if (!m.isMesh) return
    const g = m.geometry
    out.triangles += (g.index ? g.index.count : g.attributes.position.count) / 3
    box.expandByObject(m)
    out.uvs ||= !!g.attributes.uv; out.normals ||= !!g.attributes.normal; out.colours ||= !!g.attributes.color
    if (m.name) out.names.push(m.name)
    for (const x of [m.material].flat()) if (x.name) out.materials.push(x.name)
  })
  out.min = box.min.toArray(); out.max = box.max.toArray()
  return out
}

const [, , what, ...args] = process.argv
if (what === 'read') {
  for (const file of args) {
    const read = await loaders[file.slice(-3)](), bytes = cut(readFileSync(file))
    let ms = Infinity, o
    for (let i = 0; i < (bytes.byteLength > 1e6 ? 3 : 1); i++) { // the best of three: the code is compiled by then
      const t = performance.now()
      o = await read(bytes)
      ms = Math.min(ms, performance.now() - t)
    }
    console.log(JSON.stringify({ file, ms, ...figures(o) }))
  }
} else if (what === 'write') {
  const dir = args[0]
  mkdirSync(dir, { recursive: true })
  const knot = new THREE.TorusKnotGeometry(1, 0.3, 64, 12)
  const colours = new Float32Array(knot.attributes.position.count * 3).map((_, i) => (i % 7) / 7)
  knot.setAttribute('color', new THREE.BufferAttribute(colours, 3))
  const group = new THREE.Group()
  const mesh = new THREE.Mesh(knot, new THREE.MeshStandardMaterial({ name: 'rope' }))
  mesh.name = 'knot'; mesh.position.set(2, 0, -1); mesh.scale.set(1, 2, 1)
  const box = new THREE.Mesh(new THREE.BoxGeometry(1, 2, 3), new THREE.MeshStandardMaterial({ name: 'crate' }))
  box.name = 'box'; box.rotation.y = 0.5
  group.add(mesh, box)
  group.updateMatrixWorld(true)
  const exporters = {
    'three.obj': async () => new (await from('examples/jsm/exporters/OBJExporter.js')).OBJExporter().parse(group),
    'text.ply': async () => new (await from('examples/jsm/exporters/PLYExporter.js')).PLYExporter().parse(group, undefined, {}),
    'big.ply': async () => new (await from('examples/jsm/exporters/PLYExporter.js')).PLYExporter().parse(group, undefined, { binary: true }),
    'little.ply': async () => new (await from('examples/jsm/exporters/PLYExporter.js')).PLYExporter().parse(group, undefined, { binary: true, littleEndian: true }),
    'text.stl': async () => new (await from('examples/jsm/exporters/STLExporter.js')).STLExporter().parse(group),
    'binary.stl': async () => new (await from('examples/jsm/exporters/STLExporter.js')).STLExporter().parse(group, { binary: true }),
  }
  for (const [name, make] of Object.entries(exporters)) {
    const data = await make()
    writeFileSync(dir + '/' + name, typeof data === 'string' ? data : new Uint8Array(data.buffer ?? data))
  }
  console.log(JSON.stringify(figures(group)))
}
