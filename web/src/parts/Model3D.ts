// One scene in the 3D view: which drawn thing is which part of the scene, and
// how its surfaces are dressed. No React in here.
import * as THREE from 'three'
import type { GLTF } from 'three/addons/loaders/GLTFLoader.js'

export type Surface = 'textured' | 'plain' | 'normals' | 'checker' | 'colours' | 'weights' | 'facing'

/** How a model is shown. Keys of what is chosen: n node, m mesh, p mesh.primitive, k material. */
export interface Look {
  surface: Surface
  set: number
  bone: number
  wires: boolean
  skeleton: boolean
  colliders: boolean
  chosen: string[]
  hide: boolean
  morphs: Record<string, number>
  turn?: [node: number, x: number, y: number, z: number]
}

/** What lies under the pointer, by its numbers in the scene. u and v count from a picture's top left. */
export interface Hit {
  node: number
  mesh: number
  primitive: number
  material: number
  uv?: [number, number]
  at: THREE.Vector3
}

export interface Palette {
  ink: string
  verdi: string
  ochre: string
  iron: string
  clay: string
}

type Seen = THREE.Mesh | THREE.LineSegments | THREE.Points
interface Drawn {
  object: Seen
  own: THREE.Material
  node: number
  mesh: number
  primitive: number
  material: number
  morphs?: number[]
  wires?: THREE.Mesh
  cloud?: THREE.Points
}
interface Place {
  nodes?: number
  meshes?: number
  primitives?: number
  materials?: number
}

export interface Ball {
  node: number
  offset: number[]
  radius: number
  tail?: number[]
}

export class Model3D {
  readonly root: THREE.Object3D
  readonly clips: THREE.AnimationClip[]
  readonly mixer: THREE.AnimationMixer
  readonly box = new THREE.Box3()
  readonly bones: [THREE.Object3D, THREE.Object3D | null][] = []
  triangles = 0
  private drawn: Drawn[] = []
  private nodes = new Map<number, THREE.Object3D>()
  private above = new Map<number, number[]>() // a node and those that it hangs from
  private rest = new Map<THREE.Object3D, THREE.Quaternion>()
  private balls: THREE.LineSegments[] = []
  private made: THREE.Material[] = []
  private posedBy?: string

  constructor(
    g: GLTF,
    private paint: () => Palette,
  ) {
    this.root = g.scene
    this.clips = g.animations
    this.mixer = new THREE.AnimationMixer(g.scene)
    const places = g.parser.associations as unknown as Map<object, Place | undefined>
    const bones = new Set<THREE.Object3D>()
    g.scene.updateMatrixWorld(true)
    g.scene.traverse((o) => {
      const here = places.get(o)
      if (here?.nodes !== undefined) {
        this.nodes.set(here.nodes, o)
        const line = [here.nodes]
        for (let p = o.parent; p; p = p.parent) {
          const n = places.get(p)?.nodes
          if (n !== undefined) line.push(n)
        }
        this.above.set(here.nodes, line)
      }
      if (o instanceof THREE.Light) o.visible = false // assets are judged in the same light
      if (!(o instanceof THREE.Mesh || o instanceof THREE.LineSegments || o instanceof THREE.Points)) return
      let node = here?.nodes,
        mesh = here?.meshes
      for (let p = o.parent; p && (node === undefined || mesh === undefined); p = p.parent) {
        node ??= places.get(p)?.nodes
        mesh ??= places.get(p)?.meshes
      }
      const own = o.material as THREE.Material
      this.drawn.push({
        object: o as Seen,
        own,
        node: node ?? -1,
        mesh: mesh ?? -1,
        primitive: here?.primitives ?? 0,
        material: places.get(own)?.materials ?? -1,
        morphs: (o as THREE.Mesh).morphTargetInfluences?.slice(),
      })
      own.userData.blend = own.transparent
      own.userData.cut = own.alphaTest
      if (own instanceof THREE.PointsMaterial) {
        own.size = 2.5
        own.sizeAttenuation = false
        if (!own.vertexColors) own.color.set(this.paint().ink)
      }
      if (o instanceof THREE.Mesh) {
        const g = o.geometry as THREE.BufferGeometry
        this.triangles += (g.index ? g.index.count : g.attributes.position.count) / 3
      }
      if (o instanceof THREE.SkinnedMesh) {
        o.frustumCulled = false
        for (const b of o.skeleton.bones) bones.add(b)
      }
      this.box.union(boxOf(o))
    })
    this.bones = [...bones].map((b) => [b, b.parent && bones.has(b.parent) ? b.parent : null])
    this.nodes.forEach((o) => this.rest.set(o, o.quaternion.clone()))
  }

  dispose() {
    this.mixer.stopAllAction()
    for (const d of this.drawn) {
      d.object.geometry.dispose()
      if (d.cloud) {
        d.cloud.removeFromParent()
        d.cloud.geometry.dispose()
      }
      for (const v of Object.values(d.own)) if (v instanceof THREE.Texture) v.dispose()
      d.own.dispose()
    }
    for (const b of this.balls) b.geometry.dispose()
    for (const m of this.made) m.dispose()
  }

  /** Colliders of an avatar, as outlines. */
  collide(list: Ball[]) {
    for (const b of this.balls) {
      b.parent?.remove(b)
      b.geometry.dispose()
    }
    this.balls = list.flatMap((b) => {
      const node = this.nodes.get(b.node)
      if (!node) return []
      const line = new THREE.LineSegments(
        outline(b),
        this.keep(
          new THREE.LineBasicMaterial({ color: this.paint().ochre, depthTest: false, transparent: true }),
        ),
      )
      line.renderOrder = 9
      line.visible = false
      node.add(line)
      return [line]
    })
  }

  private keep<M extends THREE.Material>(m: M): M {
    this.made.push(m)
    return m
  }

  private picked(d: Drawn, chosen: Set<string>) {
    return (
      chosen.size === 0 ||
      chosen.has(`m${d.mesh}`) ||
      chosen.has(`p${d.mesh}.${d.primitive}`) ||
      chosen.has(`k${d.material}`) ||
      (this.above.get(d.node) ?? []).some((n) => chosen.has(`n${n}`))
    )
  }

  /** The box of what is chosen; of everything if nothing is. */
  extent(look: Look): THREE.Box3 {
    const chosen = new Set(look.chosen)
    if (chosen.size === 0) return this.box
    const box = new THREE.Box3()
    for (const d of this.drawn) if (this.picked(d, chosen)) box.union(boxOf(d.object))
    return box.isEmpty() ? this.box : box
  }

  dress(look: Look) {
    const lasting = (m: THREE.Material) =>
      m instanceof THREE.LineBasicMaterial || m instanceof THREE.PointsMaterial
    for (const m of this.made) if (!lasting(m)) m.dispose()
    this.made = this.made.filter(lasting)
    const chosen = new Set(look.chosen),
      c = this.paint()
    const shared = new Map<string, THREE.Material>()
    const share = (key: string, make: () => THREE.Material) => {
      let m = shared.get(key)
      if (!m) shared.set(key, (m = this.keep(make())))
      return m
    }
    for (const d of this.drawn) {
      const o = d.object,
        on = this.picked(d, chosen)
      o.visible = on || !look.hide
      if (d.wires) {
        o.remove(d.wires)
        d.wires = undefined
      }
      if (!(o instanceof THREE.Mesh)) continue
      const through = look.skeleton || look.colliders // the surface lets them show
      if (!on)
        o.material = share(
          'ghost',
          () =>
            new THREE.MeshBasicMaterial({
              color: c.clay,
              transparent: true,
              opacity: 0.13,
              depthWrite: false,
            }),
        )
      else if (look.surface === 'textured') {
        colour(o.geometry, 'own')
        const m = (o.material = d.own as THREE.MeshStandardMaterial)
        m.transparent = through || m.userData.blend === true
        m.opacity = through ? 0.45 : ((m.userData.opacity ??= m.opacity) as number)
        m.alphaTest = (m.userData.cut as number) * (through ? 0.45 : 1)
        m.depthWrite = !through
        m.needsUpdate = true
      } else {
        const has =
          look.surface === 'checker'
            ? !!o.geometry.attributes[`uv${look.set || ''}`]
            : look.surface === 'colours'
              ? colour(o.geometry, look.set)
              : look.surface === 'weights'
                ? this.weigh(o, look.bone)
                : true
        const m = (o.material = share(has ? look.surface : 'bare', () =>
          has
            ? surface(look, c)
            : new THREE.MeshStandardMaterial({ color: c.clay, roughness: 0.9, side: THREE.DoubleSide }),
        ))
        m.transparent = through
        m.opacity = through ? 0.45 : 1
        m.depthWrite = !through
      }
      if (look.wires && on) {
        const thin = share(
          'wires',
          () =>
            new THREE.MeshBasicMaterial({
              color: c.ink,
              wireframe: true,
              transparent: true,
              opacity: 0.5,
              polygonOffset: true,
              polygonOffsetFactor: -1,
              polygonOffsetUnits: -1,
            }),
        )
        if (o instanceof THREE.SkinnedMesh) {
          const w = new THREE.SkinnedMesh(o.geometry, thin)
          w.bind(o.skeleton, o.bindMatrix)
          d.wires = w
        } else d.wires = new THREE.Mesh(o.geometry, thin)
        d.wires.frustumCulled = false
        d.wires.morphTargetInfluences = o.morphTargetInfluences // the same list: they move together
        o.add(d.wires)
      }
    }
    for (const b of this.balls) b.visible = look.colliders
    this.pose(look)
  }

  /** Morph targets and the bone that are set by hand. A motion that plays goes above them. */
  private pose(look: Look) {
    const state = JSON.stringify([look.morphs, look.turn])
    if (state === this.posedBy) return
    const first = this.posedBy === undefined
    this.posedBy = state
    for (const d of this.drawn) {
      const w = (d.object as THREE.Mesh).morphTargetInfluences
      if (w && d.morphs)
        for (let k = 0; k < w.length; k++) w[k] = look.morphs[`${d.mesh}.${k}`] ?? d.morphs[k]
    }
    if (!first) for (const [o, q] of this.rest) o.quaternion.copy(q)
    if (look.turn) {
      const [node, x, y, z] = look.turn,
        o = this.nodes.get(node)
      if (o)
        o.quaternion
          .copy(this.rest.get(o)!)
          .multiply(
            new THREE.Quaternion().setFromEuler(
              new THREE.Euler((x * Math.PI) / 180, (y * Math.PI) / 180, (z * Math.PI) / 180),
            ),
          )
    }
  }

  /** Puts how much a bone moves each vertex where vertex colours are. */
  private weigh(o: THREE.Mesh, bone: number): boolean {
    if (!(o instanceof THREE.SkinnedMesh)) return false
    const at = o.skeleton.bones.indexOf(this.nodes.get(bone) as THREE.Bone)
    const g = o.geometry as THREE.BufferGeometry
    const a: Record<string, THREE.BufferAttribute | THREE.InterleavedBufferAttribute | undefined> =
      g.attributes
    const { skinIndex, skinWeight } = a
    if (at < 0 || !skinIndex || !skinWeight) return false
    // Sets beyond the first, which the loader scales until it sums to one.
    const more: [THREE.BufferAttribute, THREE.BufferAttribute][] = []
    for (let s = 1; a[`joints_${s}`] && a[`weights_${s}`]; s++)
      more.push([a[`joints_${s}`] as THREE.BufferAttribute, a[`weights_${s}`] as THREE.BufferAttribute])
    const n = skinIndex.count,
      rgb = new Float32Array(n * 3)
    const c = this.paint(),
      none = new THREE.Color(c.clay).lerp(new THREE.Color('#ffffff'), 0.35),
      half = new THREE.Color(c.ochre),
      full = new THREE.Color(c.iron),
      x = new THREE.Color()
    for (let i = 0; i < n; i++) {
      let w = 0
      let rest = 0
      for (let k = 0; k < 4; k++) {
        if (skinIndex.getComponent(i, k) === at) w += skinWeight.getComponent(i, k)
        for (const [, weights] of more) rest += weights.getComponent(i, k)
      }
      w *= 1 - rest
      for (let k = 0; k < 4; k++)
        for (const [joints, weights] of more)
          if (joints.getComponent(i, k) === at) w += weights.getComponent(i, k)
      if (w < 0.5) x.copy(none).lerp(half, w * 2)
      else x.copy(half).lerp(full, Math.min(1, w * 2 - 1))
      rgb.set([x.r, x.g, x.b], i * 3)
    }
    return colour(g, new THREE.BufferAttribute(rgb, 3))
  }

  /** Shows large surfaces as a cloud of some of their vertices, for as long as the camera moves. */
  coarse(on: boolean) {
    const all = this.drawn.reduce(
      (n, d) => n + (d.object instanceof THREE.SkinnedMesh ? 0 : d.object.geometry.attributes.position.count),
      0,
    )
    for (const d of this.drawn) {
      const o = d.object
      if (!(o instanceof THREE.Mesh) || o instanceof THREE.SkinnedMesh) continue
      if (on && !d.cloud) {
        const n = o.geometry.attributes.position.count,
          step = Math.max(1, Math.ceil(all / 120_000)),
          index = new Uint32Array(Math.ceil(n / step))
        for (let i = 0; i < index.length; i++)
          index[i] = Math.min(n - 1, i * step + (((i * 2654435761) >>> 0) % step)) // no rows of them
        const g = new THREE.BufferGeometry()
          .setAttribute('position', o.geometry.attributes.position)
          .setIndex(new THREE.BufferAttribute(index, 1))
        d.cloud = new THREE.Points(
          g,
          this.keep(new THREE.PointsMaterial({ color: this.paint().clay, size: 3, sizeAttenuation: false })),
        )
        d.cloud.matrixAutoUpdate = false
        this.root.parent?.add(d.cloud)
      }
      if (d.cloud) {
        d.cloud.matrix.copy(o.matrixWorld)
        d.cloud.visible = on && o.visible
      }
      o.layers.set(on ? 1 : 0) // a camera sees layer 0
      d.wires?.layers.set(on ? 1 : 0)
    }
  }

  /** What a ray meets first, of what can be seen. */
  /** What is drawn with its middle in a box of the camera's picture, which goes from -1 to 1 both ways. */
  within(box: THREE.Box2, camera: THREE.Camera): Hit[] {
    const at = new THREE.Vector3(),
      flat = new THREE.Vector2()
    return this.drawn.flatMap((d) => {
      if (!d.object.visible) return []
      const middle = boxOf(d.object).getCenter(new THREE.Vector3())
      at.copy(middle).project(camera)
      if (at.z > 1 || !box.containsPoint(flat.set(at.x, at.y))) return []
      return [{ node: d.node, mesh: d.mesh, primitive: d.primitive, material: d.material, at: middle }]
    })
  }

  hit(ray: THREE.Raycaster): Hit | undefined {
    const there = this.drawn.filter((d) => d.object.visible)
    for (const d of there) if (d.object instanceof THREE.SkinnedMesh) d.object.computeBoundingSphere() // it may have moved
    const found = ray
      .intersectObjects(
        there.map((d) => d.object),
        false,
      )
      .find((x) => !ghost(x.object))
    const d = found && there.find((x) => x.object === found.object)
    if (!found || !d) return undefined
    const map = (d.own as THREE.MeshStandardMaterial).map
    let uv = map?.channel ? found.uv1 : found.uv
    if (uv && map) {
      map.updateMatrix()
      uv = uv.clone().applyMatrix3(map.matrix)
    }
    return {
      node: d.node,
      mesh: d.mesh,
      primitive: d.primitive,
      material: d.material,
      uv: uv && [uv.x - Math.floor(uv.x), uv.y - Math.floor(uv.y)],
      at: found.point,
    }
  }
}

const ghost = (o: THREE.Object3D) =>
  (o as THREE.Mesh).material instanceof THREE.MeshBasicMaterial &&
  ((o as THREE.Mesh).material as THREE.MeshBasicMaterial).opacity < 0.2

function boxOf(o: Seen): THREE.Box3 {
  if (o instanceof THREE.SkinnedMesh) {
    o.computeBoundingBox()
    return o.boundingBox.clone().applyMatrix4(o.matrixWorld)
  }
  return new THREE.Box3().setFromObject(o, o.geometry.attributes.position.count < 300_000)
}

/** Puts a colour set, or other colours, where the renderer looks for vertex colours; false if the geometry has none of it. */
function colour(g: THREE.BufferGeometry, which: 'own' | number | THREE.BufferAttribute): boolean {
  const kept = (g.userData.own ??= { colour: g.attributes.color }) as { colour?: THREE.BufferAttribute }
  const own = kept.colour
  const a =
    which === 'own' || which === 0 ? own : typeof which === 'number' ? g.attributes[`color_${which}`] : which
  if (a) g.setAttribute('color', a)
  else g.deleteAttribute('color')
  return !!a
}

function surface(look: Look, c: Palette): THREE.Material {
  const side = THREE.DoubleSide
  switch (look.surface) {
    case 'normals':
      return new THREE.MeshNormalMaterial({ side })
    case 'checker': {
      const map = checker()
      map.channel = look.set
      return new THREE.MeshStandardMaterial({ map, roughness: 0.9, side })
    }
    case 'colours':
      return new THREE.MeshBasicMaterial({ vertexColors: true, side })
    case 'weights':
      return new THREE.MeshStandardMaterial({ vertexColors: true, roughness: 0.9, side })
    case 'facing': {
      const m = new THREE.MeshStandardMaterial({ color: '#ffffff', roughness: 0.9, side })
      const front = new THREE.Color(c.verdi),
        back = new THREE.Color(c.iron),
        text = (x: THREE.Color) => `vec3(${x.r.toFixed(4)}, ${x.g.toFixed(4)}, ${x.b.toFixed(4)})`
      m.onBeforeCompile = (s) => {
        s.fragmentShader = s.fragmentShader.replace(
          '#include <color_fragment>',
          `#include <color_fragment>\n diffuseColor.rgb = gl_FrontFacing ? mix(vec3(1.0), ${text(front)}, 0.5) : ${text(back)};`,
        )
      }
      m.customProgramCacheKey = () => `facing ${c.verdi} ${c.iron}`
      return m
    }
  }
  return new THREE.MeshStandardMaterial({ color: c.clay, roughness: 0.9, side })
}

/** Eight by eight numbered fields: row letters run down, numbers to the right, so that turns and mirrors show. */
function checker(): THREE.Texture {
  const size = 1024,
    f = size / 8,
    canvas = document.createElement('canvas')
  canvas.width = canvas.height = size
  const g = canvas.getContext('2d')!
  g.font = `600 ${f * 0.4}px "IBM Plex Mono", monospace`
  g.textAlign = 'center'
  g.textBaseline = 'middle'
  for (let y = 0; y < 8; y++)
    for (let x = 0; x < 8; x++) {
      const dark = (x + y) % 2
      g.fillStyle = dark ? `hsl(${168 + x * 4} ${22 + y * 3}% 34%)` : `hsl(${38 + x * 2} ${34 + y * 3}% 84%)`
      g.fillRect(x * f, y * f, f, f)
      g.fillStyle = dark ? '#f4efe4' : '#26241f'
      g.fillText('ABCDEFGH'[y] + (x + 1), (x + 0.5) * f, (y + 0.5) * f)
    }
  const t = new THREE.CanvasTexture(canvas)
  t.flipY = false
  t.wrapS = t.wrapT = THREE.RepeatWrapping
  t.colorSpace = THREE.SRGBColorSpace
  t.anisotropy = 8
  return t
}

/** Circles of a sphere; of a capsule at both ends, and the lines between. */
function outline(b: Ball): THREE.BufferGeometry {
  const at: number[] = [],
    from = new THREE.Vector3(...b.offset),
    to = b.tail ? new THREE.Vector3(...b.tail) : from
  const axis = to.clone().sub(from).normalize()
  const q = new THREE.Quaternion().setFromUnitVectors(
    new THREE.Vector3(0, 1, 0),
    axis.lengthSq() > 0 ? axis : new THREE.Vector3(0, 1, 0),
  )
  const point = (c: THREE.Vector3, plane: number, i: number) => {
    const s = Math.sin((i / 32) * 2 * Math.PI) * b.radius,
      k = Math.cos((i / 32) * 2 * Math.PI) * b.radius
    const v = (
      plane === 0
        ? new THREE.Vector3(s, 0, k)
        : plane === 1
          ? new THREE.Vector3(s, k, 0)
          : new THREE.Vector3(0, k, s)
    )
      .applyQuaternion(q)
      .add(c)
    at.push(v.x, v.y, v.z)
  }
  for (const c of b.tail ? [from, to] : [from])
    for (let plane = 0; plane < 3; plane++)
      for (let i = 0; i < 32; i++) {
        point(c, plane, i)
        point(c, plane, i + 1)
      }
  if (b.tail)
    for (let i = 0; i < 32; i += 8) {
      point(from, 0, i)
      point(to, 0, i)
    }
  return new THREE.BufferGeometry().setAttribute('position', new THREE.Float32BufferAttribute(at, 3))
}
