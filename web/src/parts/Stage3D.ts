// The 3D view: one or two scenes under one camera, each framed by itself,
// with the ground, the scale figure and the skeleton. No React in here.
import * as THREE from 'three'
import { OrbitControls } from 'three/addons/controls/OrbitControls.js'
import { GLTFLoader } from 'three/addons/loaders/GLTFLoader.js'

export type Shading = 'textured' | 'plain' | 'normals' | 'wires'
export interface Look { shading: Shading; skeleton: boolean; playing: boolean; time: number; motion: number }
export interface Facts { triangles: number; height: number; metresPer200px: number }

/** Height of the scale figure in metres, and the right half of its outline
 * from the head down: the one that the server draws too. */
const FIGURE = 1.75
const OUTLINE: [number, number][] = [[0, 1.75], [0.055, 1.735], [0.085, 1.69], [0.09, 1.63], [0.07, 1.565], [0.05, 1.53], [0.055, 1.485], [0.19, 1.44], [0.235, 1.38], [0.265, 1.12], [0.3, 0.86], [0.285, 0.78], [0.245, 0.8], [0.215, 1.08], [0.175, 1.22], [0.165, 1.02], [0.185, 0.86], [0.17, 0.52], [0.125, 0.1], [0.16, 0.03], [0.155, 0], [0.04, 0], [0.035, 0.45], [0, 0.8]]

interface Pane {
  scene: THREE.Scene
  model?: THREE.Object3D
  figure: THREE.Mesh
  grid?: THREE.GridHelper
  bones: { lines: THREE.LineSegments; dots: THREE.Points; pairs: [THREE.Object3D, THREE.Object3D | null][] }
  mixer?: THREE.AnimationMixer
  clips: THREE.AnimationClip[]
  action?: THREE.AnimationAction
  originals: Map<THREE.Mesh, THREE.Material | THREE.Material[]>
  centre: THREE.Vector3
  radius: number
  url: string
  token: number
  triangles: number
  height: number
}

export class Stage3D {
  readonly renderer: THREE.WebGLRenderer
  private controls: OrbitControls
  private lens = new THREE.PerspectiveCamera(28, 1, 0.01, 100)
  private panes: Pane[] = []
  private look: Look = { shading: 'textured', skeleton: false, playing: false, time: 0, motion: 0 }
  private clock = new THREE.Clock()
  private frame = 0
  private dirty = true
  private ink = '#26241f'
  private verdi = '#1c675c'
  private grid = '#d0c6b2'
  private man = '#b9b09c'
  private watcher: ResizeObserver
  onTime: (t: number) => void = () => {}
  onDraw: (facts: Facts[]) => void = () => {}
  onError: (pane: number, message: string) => void = () => {}

  constructor(private host: HTMLElement) {
    this.renderer = new THREE.WebGLRenderer({ antialias: true, preserveDrawingBuffer: true, alpha: true })
    this.renderer.setPixelRatio(Math.min(window.devicePixelRatio, 2))
    this.renderer.setScissorTest(true)
    const el = this.renderer.domElement
    el.tabIndex = 0
    el.setAttribute('aria-label', '3D view: drag to turn, wheel to come nearer, arrow keys to turn')
    host.prepend(el)
    this.controls = new OrbitControls(this.lens, el)
    this.controls.enableDamping = false
    this.controls.minDistance = 0.2
    this.controls.maxDistance = 40
    this.controls.addEventListener('change', () => { this.dirty = true })
    el.addEventListener('keydown', (e) => {
      const turn = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[e.key]
      if (!turn) return
      e.preventDefault()
      const s = new THREE.Spherical().setFromVector3(this.lens.position.clone().sub(this.controls.target))
      s.theta += turn[0] * 0.15
      s.phi = Math.min(Math.max(s.phi + turn[1] * 0.1, 0.1), Math.PI - 0.1)
      this.lens.position.setFromSpherical(s).add(this.controls.target)
      this.controls.update()
      this.dirty = true
    })
    this.fit()
    this.watcher = new ResizeObserver(() => { this.dirty = true })
    this.watcher.observe(host)
    const loop = () => { this.frame = requestAnimationFrame(loop); this.tick() }
    loop()
  }

  dispose() {
    cancelAnimationFrame(this.frame)
    this.watcher.disconnect()
    this.controls.dispose()
    for (const p of this.panes) { p.token = -1; this.clear(p) }
    this.renderer.dispose()
    this.renderer.forceContextLoss()
    this.renderer.domElement.remove()
  }

  /** Looks from three quarters front, slightly above, from as far as it takes. */
  fit() {
    const yaw = (-32 * Math.PI) / 180, pitch = (14 * Math.PI) / 180
    this.controls.target.set(0, 0, 0)
    this.lens.position.set(Math.sin(yaw) * Math.cos(pitch), Math.sin(pitch), Math.cos(yaw) * Math.cos(pitch)).multiplyScalar(4.6)
    this.controls.update()
    this.dirty = true
  }

  /** Shows one scene, or two side by side. */
  show(urls: string[]) {
    while (this.panes.length > urls.length) { const p = this.panes.pop()!; p.token = -1; this.clear(p) }
    urls.forEach((url, i) => {
      const p = (this.panes[i] ??= this.newPane())
      if (p.url === url) return
      p.url = url
      const token = ++p.token
      new GLTFLoader().load(url, (g) => { if (p.token === token) { this.place(p, g.scene, g.animations); this.apply(this.look) } },
        undefined, (e) => { if (p.token === token) this.onError(i, e instanceof Error ? e.message : 'the scene could not be loaded') })
    })
    this.dirty = true
  }

  private newPane(): Pane {
    const scene = new THREE.Scene()
    scene.add(new THREE.HemisphereLight(0xffffff, 0xb5a88e, 1.7))
    const key = new THREE.DirectionalLight(0xfff6e6, 2.3)
    key.position.set(-0.45, 0.75, 0.62)
    scene.add(key)
    const shape = new THREE.Shape()
    OUTLINE.forEach(([x, y], i) => (i ? shape.lineTo(x, y) : shape.moveTo(x, y)))
    for (let i = OUTLINE.length - 1; i >= 0; i--) shape.lineTo(-OUTLINE[i][0], OUTLINE[i][1])
    const figure = new THREE.Mesh(new THREE.ShapeGeometry(shape), new THREE.MeshBasicMaterial({ color: this.man, side: THREE.DoubleSide }))
    scene.add(figure)
    const lines = new THREE.LineSegments(new THREE.BufferGeometry(), new THREE.LineBasicMaterial({ color: this.verdi, depthTest: false, transparent: true }))
    const dots = new THREE.Points(new THREE.BufferGeometry(), new THREE.PointsMaterial({ color: this.ink, size: 5, sizeAttenuation: false, depthTest: false, transparent: true }))
    lines.renderOrder = dots.renderOrder = 10
    lines.frustumCulled = dots.frustumCulled = false
    scene.add(lines, dots)
    return { scene, figure, bones: { lines, dots, pairs: [] }, clips: [], originals: new Map(), centre: new THREE.Vector3(), radius: 1, url: '', token: 0, triangles: 0, height: 0 }
  }

  private clear(p: Pane) {
    if (p.model) {
      p.scene.remove(p.model)
      p.model.traverse((o) => {
        const m = o as THREE.Mesh
        if (!m.isMesh) return
        m.geometry.dispose()
        for (const x of [p.originals.get(m) ?? m.material].flat()) { for (const v of Object.values(x)) if (v instanceof THREE.Texture) v.dispose(); x.dispose() }
      })
    }
    p.model = undefined
    p.mixer = undefined
    p.action = undefined
    p.originals.clear()
  }

  private place(p: Pane, model: THREE.Object3D, clips: THREE.AnimationClip[]) {
    this.clear(p)
    p.model = model
    p.clips = clips
    p.mixer = new THREE.AnimationMixer(model)
    p.scene.add(model)
    model.updateMatrixWorld(true)
    const box = new THREE.Box3()
    p.triangles = 0
    const bones = new Set<THREE.Bone>()
    model.traverse((o) => {
      const m = o as THREE.SkinnedMesh
      if (o instanceof THREE.Points) {
        o.material = new THREE.PointsMaterial({ color: this.ink, size: 2.5, sizeAttenuation: false })
        p.triangles += o.geometry.attributes.position.count / 3
        box.expandByObject(o, true)
      }
      if (!m.isMesh) return
      p.originals.set(m, m.material)
      for (const x of [m.material].flat()) x.userData.blend = x.transparent
      p.triangles += (m.geometry.index ? m.geometry.index.count : m.geometry.attributes.position.count) / 3
      if (m.isSkinnedMesh) {
        m.frustumCulled = false
        m.computeBoundingBox()
        box.union(m.boundingBox!.clone().applyMatrix4(m.matrixWorld))
        for (const b of m.skeleton.bones) bones.add(b)
      } else box.expandByObject(m, true)
    })
    p.bones.pairs = [...bones].map((b) => [b, b.parent && bones.has(b.parent as THREE.Bone) ? b.parent : null])
    if (box.isEmpty()) box.set(new THREE.Vector3(-0.5, 0, -0.5), new THREE.Vector3(0.5, 1, 0.5))
    p.height = box.max.y - box.min.y
    p.figure.position.set(box.min.x - 0.55, box.min.y, (box.min.z + box.max.z) / 2)
    const all = box.clone().expandByPoint(p.figure.position.clone().add(new THREE.Vector3(-0.35, 0, 0))).expandByPoint(p.figure.position.clone().add(new THREE.Vector3(0, FIGURE, 0)))
    const size = all.getSize(new THREE.Vector3())
    all.getCenter(p.centre)
    p.radius = Math.max(size.length() / 2, 1e-6)
    const step = Math.pow(10, Math.round(Math.log10(Math.max(size.x, size.z) / 4)))
    const n = 2 * Math.ceil((Math.max(size.x, size.z) * 1.5) / step / 2) + 2
    this.newGrid(p, step, n, new THREE.Vector3(Math.round(p.centre.x / step) * step, box.min.y, Math.round(p.centre.z / step) * step))
    this.dirty = true
  }

  private newGrid(p: Pane, step: number, n: number, at: THREE.Vector3) {
    if (p.grid) { p.scene.remove(p.grid); p.grid.dispose() }
    p.grid = new THREE.GridHelper(n * step, n, this.grid, this.grid)
    p.grid.userData = { step, n }
    p.grid.position.copy(at)
    p.scene.add(p.grid)
  }

  colour(ink: string, verdi: string, figure: string, grid: string) {
    this.ink = ink
    this.verdi = verdi
    this.grid = grid
    this.man = figure
    for (const p of this.panes) {
      ;(p.bones.lines.material as THREE.LineBasicMaterial).color.set(verdi)
      ;(p.bones.dots.material as THREE.PointsMaterial).color.set(ink)
      ;(p.figure.material as THREE.MeshBasicMaterial).color.set(figure)
      if (p.grid) { const g = p.grid; this.newGrid(p, g.userData.step as number, g.userData.n as number, g.position) }
    }
    this.dirty = true
  }

  apply(look: Look) {
    const wasPlaying = this.look.playing
    this.look = look
    for (const p of this.panes) {
      for (const [mesh, original] of p.originals) {
        if (look.shading === 'textured') mesh.material = original
        else if (look.shading === 'normals') mesh.material = new THREE.MeshNormalMaterial()
        else mesh.material = new THREE.MeshStandardMaterial({ color: '#a89f8c', roughness: 0.9, side: THREE.DoubleSide })
        const old = mesh.userData.wires as THREE.Object3D | undefined
        if (old) { mesh.remove(old); delete mesh.userData.wires }
        if (look.shading === 'wires') {
          const thin = new THREE.MeshBasicMaterial({ color: this.ink, wireframe: true, transparent: true, opacity: 0.5 })
          let w: THREE.Mesh
          if (mesh instanceof THREE.SkinnedMesh) {
            const copy = new THREE.SkinnedMesh(mesh.geometry, thin)
            copy.bind(mesh.skeleton, mesh.bindMatrix)
            w = copy
          } else w = new THREE.Mesh(mesh.geometry, thin)
          w.frustumCulled = false
          mesh.userData.wires = w
          mesh.add(w)
        }
        // With the skeleton on, the surface lets it show.
        for (const m of [mesh.material].flat()) { m.transparent = look.skeleton || (look.shading === 'textured' && m.userData.blend === true); m.opacity = look.skeleton ? 0.45 : 1; m.userData.cut ??= m.alphaTest; m.alphaTest = m.userData.cut * m.opacity; m.depthWrite = !look.skeleton; m.needsUpdate = true }
      }
      p.bones.lines.visible = p.bones.dots.visible = look.skeleton
      const clip = p.clips[look.motion] ?? p.clips[0]
      if (clip && p.mixer) {
        if (p.action?.getClip() !== clip) { p.mixer.stopAllAction(); p.action = p.mixer.clipAction(clip) }
        if (look.playing || look.time > 0) {
          p.action!.play()
          if (!look.playing || !wasPlaying) p.mixer.setTime(look.time)
        } else { p.mixer.stopAllAction() }
      }
    }
    this.clock.getDelta()
    this.dirty = true
  }

  private skeleton(p: Pane) {
    const at: number[] = [], ends: number[] = [], v = new THREE.Vector3()
    for (const [b, parent] of p.bones.pairs) {
      b.getWorldPosition(v)
      at.push(v.x, v.y, v.z)
      if (parent) { ends.push(v.x, v.y, v.z); parent.getWorldPosition(v); ends.push(v.x, v.y, v.z) }
    }
    p.bones.dots.geometry.setAttribute('position', new THREE.Float32BufferAttribute(at, 3))
    p.bones.lines.geometry.setAttribute('position', new THREE.Float32BufferAttribute(ends, 3))
  }

  private tick() {
    const delta = this.clock.getDelta()
    if (this.look.playing) {
      for (const p of this.panes) p.mixer?.update(delta)
      const a = this.panes[0]?.action
      if (a) this.onTime(a.time)
      this.dirty = true
    }
    if (!this.dirty) return
    this.dirty = false
    const w = this.host.clientWidth, h = this.host.clientHeight
    if (w === 0 || h === 0) return
    const size = this.renderer.getSize(new THREE.Vector2())
    if (size.x !== w || size.y !== h) this.renderer.setSize(w, h, false)
    const each = w / Math.max(1, this.panes.length)
    const cam = new THREE.PerspectiveCamera(this.lens.fov, each / h)
    // A narrow pane steps back so that the sides stay in view.
    const back = Math.max(1, (1 / cam.aspect) * 0.82)
    const facts: Facts[] = []
    this.panes.forEach((p, i) => {
      cam.near = p.radius * 0.01
      cam.far = p.radius * 200
      const offset = this.lens.position.clone().sub(this.controls.target)
      cam.position.copy(p.centre).addScaledVector(this.controls.target, p.radius).addScaledVector(offset, p.radius * back)
      cam.quaternion.copy(this.lens.quaternion)
      cam.updateProjectionMatrix()
      p.figure.rotation.y = Math.atan2(cam.position.x - p.figure.position.x, cam.position.z - p.figure.position.z)
      if (this.look.skeleton) { p.scene.updateMatrixWorld(); this.skeleton(p) }
      this.renderer.setViewport(i * each, 0, each, h)
      this.renderer.setScissor(i * each, 0, each, h)
      this.renderer.render(p.scene, cam)
      const distance = offset.length() * p.radius * back
      facts.push({ triangles: p.model ? p.triangles : 0, height: p.height, metresPer200px: (2 * Math.tan((cam.fov * Math.PI) / 360) * distance * 200) / h })
    })
    this.onDraw(facts)
  }
}
