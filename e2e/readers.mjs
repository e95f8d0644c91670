// Reads GLBs with software that is not ours: the Khronos validator and three's
// GLTFLoader. One JSON object a file and line.
import { createRequire } from 'node:module'
import { readFileSync } from 'node:fs'
import { fileURLToPath, pathToFileURL } from 'node:url'

const web = fileURLToPath(new URL('../web/', import.meta.url))
const require = createRequire(web + 'package.json')
const validator = require('gltf-validator')
const from = (p) => import(pathToFileURL(web + 'node_modules/three/' + p).href)
const THREE = await from('build/three.module.js')
const { GLTFLoader } = await from('examples/jsm/loaders/GLTFLoader.js')

// Pictures need a browser; here they only need to arrive.
globalThis.self ??= globalThis
globalThis.ProgressEvent ??= class { constructor(type) { this.type = type } }
globalThis.createImageBitmap = async () => ({ width: 1, height: 1, close() {} })

for (const file of process.argv.slice(2)) {
  const bytes = readFileSync(file)
  const report = await validator.validateBytes(new Uint8Array(bytes))
  const buffer = bytes.buffer.slice(bytes.byteOffset, bytes.byteOffset + bytes.byteLength)
  const gltf = await new GLTFLoader().parseAsync(buffer, '')
  gltf.scene.updateMatrixWorld(true)
  const out = { File: file, Errors: report.issues.numErrors, Warnings: report.issues.numWarnings, Messages: report.issues.messages.map((m) => `${m.code} ${m.pointer}`), Triangles: 0, Vertices: 0, Bones: 0, Motions: gltf.animations.length, Min: [], Max: [] }
  const bones = new Set(), box = new THREE.Box3(), v = new THREE.Vector3()
  gltf.scene.traverse((o) => {
    if (!o.isMesh) return
    const n = o.geometry.attributes.position.count
    out.Triangles += (o.geometry.index ? o.geometry.index.count : n) / 3
    out.Vertices += n
    if (o.isSkinnedMesh) o.skeleton.bones.forEach((b) => bones.add(b))
    for (let i = 0; i < n; i++) box.expandByPoint(o.getVertexPosition(i, v).applyMatrix4(o.matrixWorld))
  })
  out.Bones = bones.size
  out.Min = box.min.toArray()
  out.Max = box.max.toArray()
  console.log(JSON.stringify(out))
}
