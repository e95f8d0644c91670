// What packages that are not ours compute, to hold ours against. The first
// argument names the job; the input is float32 or uint32 numbers in files.
import { createRequire } from 'node:module'
import { readFileSync, writeFileSync } from 'node:fs'
import { fileURLToPath } from 'node:url'

const require = createRequire(fileURLToPath(new URL('../web/package.json', import.meta.url)))
const [job, dir, ...rest] = process.argv.slice(2)
const bytes = (name) => {
  const b = readFileSync(`${dir}/${name}`)
  return b.buffer.slice(b.byteOffset, b.byteOffset + b.byteLength)
}
const floats = (name) => new Float32Array(bytes(name))
const put = (name, list) => writeFileSync(`${dir}/${name}`, new Uint8Array(list.buffer, list.byteOffset, list.byteLength))

const jobs = {
  // Corners by themselves in, four numbers a corner out.
  tangents() {
    const { generateTangents } = require('mikktspace')
    const [p, n, t] = [floats('positions'), floats('normals'), floats('uvs')]
    const start = performance.now()
    put('tangents', generateTangents(p, n, t))
    console.log(JSON.stringify({ milliseconds: performance.now() - start }))
  },
  // Indices and positions in, fewer indices out.
  async simplify(count) {
    const { MeshoptSimplifier } = require('meshoptimizer')
    await MeshoptSimplifier.ready
    const start = performance.now()
    const [out, error] = MeshoptSimplifier.simplify(new Uint32Array(bytes('triangles')), floats('positions'), 3, Number(count), 1)
    put('reduced', out)
    console.log(JSON.stringify({ milliseconds: performance.now() - start, error }))
  },
}
await jobs[job](...rest)
