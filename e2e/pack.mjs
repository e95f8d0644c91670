// Packs attributes, triangles, indices and a whole GLB with software that is
// not ours, the encoder of the package meshoptimizer: one JSON object.
import { fileURLToPath, pathToFileURL } from 'node:url'

const web = fileURLToPath(new URL('../web/', import.meta.url))
const from = (p) => import(pathToFileURL(web + 'node_modules/meshoptimizer/' + p).href)
const { MeshoptEncoder: pack } = await from('meshopt_encoder.js')
const { MeshoptDecoder: unpack } = await from('meshopt_decoder.mjs')
await pack.ready
await unpack.ready
let seed = 7
const random = () => (seed = (seed * 1103515245 + 12345) % 2147483648) / 2147483648
const text = (b) => Buffer.from(b.buffer, b.byteOffset, b.byteLength).toString('base64')
const cases = []
const add = (mode, filter, count, stride, packed) => {
  const plain = new Uint8Array(count * stride)
  unpack.decodeGltfBuffer(plain, count, stride, packed, mode, filter)
  cases.push({ mode, filter, count, stride, packed: text(packed), plain: text(plain) })
}
for (const count of [0, 1, 15, 16, 17, 255, 256, 257, 1000]) for (const stride of [4, 8, 12, 16, 36, 64, 256]) {
  const b = new Uint8Array(count * stride).map((_, i) => (i % stride < 4 ? i / stride : i % stride < 8 ? random() * 4 : i % stride < 12 ? 0 : random() * 256))
  add('ATTRIBUTES', 'NONE', count, stride, pack.encodeGltfBuffer(b, count, stride, 'ATTRIBUTES', 0))
}
for (const stride of [2, 4]) for (const side of [2, 5, 40]) {
  const idx = []
  for (let y = 0; y + 1 < side; y++) for (let x = 0; x + 1 < side; x++) { const a = y * side + x; idx.push(a, a + side, a + 1, a + 1, a + side, a + side + 1) }
  for (let i = 0; i < 30; i++) idx.push(...[0, 1, 2].map(() => Math.floor(random() * side * side)))
  const List = stride === 2 ? Uint16Array : Uint32Array, bytes = new Uint8Array(new List(idx).buffer)
  add('TRIANGLES', 'NONE', idx.length, stride, pack.encodeGltfBuffer(bytes, idx.length, stride, 'TRIANGLES'))
  add('INDICES', 'NONE', idx.length, stride, pack.encodeGltfBuffer(bytes, idx.length, stride, 'INDICES'))
}
const vectors = (n, size) => { const v = new Float32Array(n * size); for (let i = 0; i < n; i++) { let l = 0; for (let k = 0; k < size; k++) { v[i * size + k] = random() * 2 - 1; l += v[i * size + k] ** 2 } for (let k = 0; k < size; k++) v[i * size + k] /= Math.sqrt(l) } return v }
const filtered = (filter, count, stride, b) => add('ATTRIBUTES', filter, count, stride, pack.encodeGltfBuffer(b, count, stride, 'ATTRIBUTES', 0))
filtered('OCTAHEDRAL', 100, 4, pack.encodeFilterOct(vectors(100, 4), 100, 4, 8))
filtered('OCTAHEDRAL', 100, 8, pack.encodeFilterOct(vectors(100, 4), 100, 8, 12))
filtered('QUATERNION', 100, 8, pack.encodeFilterQuat(vectors(100, 4), 100, 8, 14))
filtered('EXPONENTIAL', 100, 12, pack.encodeFilterExp(vectors(100, 3).map((v) => v * 1000), 100, 12, 18))

// A bumpy sheet whose buffer views are all packed, with a buffer to fall back
// to that is not there.
const side = 20, position = new Float32Array(side * side * 3), normal = new Float32Array(side * side * 4), index = []
for (let y = 0; y < side; y++) for (let x = 0; x < side; x++) {
  const i = y * side + x
  position.set([x, Math.sin(x / 3) * Math.cos(y / 4), y], 3 * i)
  normal.set([0, 1, 0, 0], 4 * i)
  if (x && y) index.push(i - side - 1, i - 1, i - side, i - side, i - 1, i)
}
const views = [], chunks = []
let size = 0, plain = 0
const view = (packed, count, stride, mode, filter, target) => {
  views.push({ buffer: 1, byteOffset: plain, byteLength: count * stride, ...(mode === 'ATTRIBUTES' ? { byteStride: stride } : {}), target, extensions: { EXT_meshopt_compression: { buffer: 0, byteOffset: size, byteLength: packed.length, byteStride: stride, count, mode, ...(filter ? { filter } : {}) } } })
  const padded = new Uint8Array((packed.length + 3) & ~3)
  padded.set(packed)
  chunks.push(padded)
  size += padded.length
  plain += (count * stride + 3) & ~3
}
const n = side * side
view(pack.encodeGltfBuffer(new Uint8Array(position.buffer), n, 12, 'ATTRIBUTES', 0), n, 12, 'ATTRIBUTES', '', 34962)
view(pack.encodeGltfBuffer(pack.encodeFilterOct(normal, n, 4, 8), n, 4, 'ATTRIBUTES', 0), n, 4, 'ATTRIBUTES', 'OCTAHEDRAL', 34962)
view(pack.encodeGltfBuffer(new Uint8Array(new Uint16Array(index).buffer), index.length, 2, 'TRIANGLES'), index.length, 2, 'TRIANGLES', '', 34963)
const json = Buffer.from(JSON.stringify({
  asset: { version: '2.0' }, extensionsUsed: ['EXT_meshopt_compression', 'KHR_mesh_quantization'], extensionsRequired: ['EXT_meshopt_compression', 'KHR_mesh_quantization'],
  buffers: [{ byteLength: size }, { byteLength: plain, extensions: { EXT_meshopt_compression: { fallback: true } } }], bufferViews: views,
  accessors: [{ bufferView: 0, componentType: 5126, count: n, type: 'VEC3', min: [0, -1, 0], max: [19, 1, 19] }, { bufferView: 1, componentType: 5120, normalized: true, count: n, type: 'VEC3' }, { bufferView: 2, componentType: 5123, count: index.length, type: 'SCALAR' }],
  meshes: [{ name: 'mudflat', primitives: [{ attributes: { POSITION: 0, NORMAL: 1 }, indices: 2 }] }], nodes: [{ mesh: 0 }], scenes: [{ nodes: [0] }], scene: 0,
}))
const text4 = Buffer.concat([json, Buffer.alloc(-json.length & 3, ' ')]), body = Buffer.concat(chunks)
const head = (a, b) => { const h = Buffer.alloc(8); h.writeUInt32LE(a, 0); h.writeUInt32LE(b, 4); return h }
const glb = Buffer.concat([Buffer.from('glTF'), head(2, 12 + 8 + text4.length + 8 + body.length), head(text4.length, 0x4e4f534a), text4, head(body.length, 0x004e4942), body])
console.log(JSON.stringify({ cases, glb: glb.toString('base64') }))
