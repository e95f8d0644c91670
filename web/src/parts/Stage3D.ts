// The 3D view: one or two scenes under one camera, each framed by itself, with
// the ground, the axes of its file, the scale figure and the skeleton. No React
// in here.
import * as THREE from 'three'
import { OrbitControls } from 'three/addons/controls/OrbitControls.js'
import { GLTFLoader } from 'three/addons/loaders/GLTFLoader.js'
import { Model3D, type Ball, type Hit, type Look, type Palette } from './Model3D'

/** What is played. Time is in seconds. */
export interface Play {
  playing: boolean
  time: number
  motion: number
  speed: number
}
export interface Facts {
  ready: boolean
  triangles: number
  height: number
  metresPer200px: number
}
/** Which way the file's axes run: up and front as the file has them, for example +Z and -Y. */
export interface Axes {
  up: string
  front: string
  handedness: string
}
export interface Content {
  url: string
  axes?: Axes
  balls?: Ball[]
  /** Ends of lines that are drawn over the model, three numbers each. */
  marks?: number[]
}

/** Height of the scale figure in metres, and the right half of its outline
 * from the head down: the one that the server draws too. */
const FIGURE = 1.75
const OUTLINE: [number, number][] = [
  [0, 1.75],
  [0.055, 1.735],
  [0.085, 1.69],
  [0.09, 1.63],
  [0.07, 1.565],
  [0.05, 1.53],
  [0.055, 1.485],
  [0.19, 1.44],
  [0.235, 1.38],
  [0.265, 1.12],
  [0.3, 0.86],
  [0.285, 0.78],
  [0.245, 0.8],
  [0.215, 1.08],
  [0.175, 1.22],
  [0.165, 1.02],
  [0.185, 0.86],
  [0.17, 0.52],
  [0.125, 0.1],
  [0.16, 0.03],
  [0.155, 0],
  [0.04, 0],
  [0.035, 0.45],
  [0, 0.8],
]

const noLook: Look = {
  surface: 'textured',
  set: 0,
  bone: -1,
  wires: false,
  skeleton: false,
  colliders: false,
  chosen: [],
  hide: false,
  morphs: {},
}

interface Pane {
  scene: THREE.Scene
  model?: Model3D
  figure: THREE.Mesh
  grid?: THREE.GridHelper
  axes?: THREE.Group
  lines: THREE.LineSegments
  dots: THREE.Points
  marks: THREE.LineSegments
  action?: THREE.AnimationAction
  centre: THREE.Vector3 // of what is framed
  radius: number
  own: { centre: THREE.Vector3; radius: number } // of what it holds itself
  content: Content
  token: number
  height: number
  cost: number // milliseconds that drawing it took, where that was measured
  camera: THREE.PerspectiveCamera
}

export class Stage3D {
  readonly renderer: THREE.WebGLRenderer
  private controls: OrbitControls
  private lens = new THREE.PerspectiveCamera(28, 1, 0.01, 100)
  private panes: Pane[] = []
  private look: Look = noLook
  private withFigure = true
  private play: Play = { playing: false, time: 0, motion: 0, speed: 1 }
  private clock = new THREE.Clock()
  private frame = 0
  private rest = 0
  private dirty = true
  private grid = '#d0c6b2'
  private man = '#b9b09c'
  private paint: Palette = {
    ink: '#26241f',
    verdi: '#1c675c',
    ochre: '#8a5800',
    iron: '#9c2f1e',
    clay: '#a89f8c',
  }
  private watcher: ResizeObserver
  onTime: (t: number) => void = () => {}
  onDraw: (facts: Facts[]) => void = () => {}
  onError: (pane: number, message: string) => void = () => {}
  onLoad: (pane: number, loaded: number, total: number) => void = () => {}
  onPick: (pane: number, hit: Hit | undefined) => void = () => {}
  /** What a box that was drawn with Shift holds; without it Shift moves the camera. */
  onBox?: (pane: number, hits: Hit[]) => void

  constructor(private host: HTMLElement) {
    this.renderer = new THREE.WebGLRenderer({ antialias: true, preserveDrawingBuffer: true, alpha: true })
    this.renderer.setPixelRatio(Math.min(window.devicePixelRatio, 2))
    this.renderer.setScissorTest(true)
    const el = this.renderer.domElement
    el.tabIndex = 0
    el.setAttribute(
      'aria-label',
      '3D view: drag to turn, wheel to come nearer, arrow keys to turn, click to learn what a surface is',
    )
    host.prepend(el)
    this.controls = new OrbitControls(this.lens, el)
    this.controls.enableDamping = false
    this.controls.minDistance = 0.02
    this.controls.maxDistance = 40
    this.controls.addEventListener('change', () => {
      this.dirty = true
    })
    this.controls.addEventListener('start', () => this.coarse(true))
    this.controls.addEventListener('end', () => this.coarse(false))
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
    let down: [number, number] | undefined
    let box: HTMLElement | undefined
    el.addEventListener(
      'pointerdown',
      (e) => {
        down = e.button === 0 ? [e.clientX, e.clientY] : undefined
        if (!down || !e.shiftKey || !this.onBox) return
        // Shift draws a box; the camera stays where it is.
        this.controls.enabled = false
        el.setPointerCapture(e.pointerId)
        box = document.createElement('div')
        box.className = 'chosenbox'
        host.append(box)
      },
      { capture: true },
    )
    el.addEventListener('pointermove', (e) => {
      if (!box || !down) return
      const r = host.getBoundingClientRect()
      const [x, y, w, h] = span(down, e)
      box.style.cssText = `left:${x - r.left}px;top:${y - r.top}px;width:${w}px;height:${h}px`
    })
    const end = (e: PointerEvent, done: boolean) => {
      this.controls.enabled = true
      box?.remove()
      const moved = down && Math.hypot(e.clientX - down[0], e.clientY - down[1]) >= 4
      if (done && down && !moved) this.pick(e)
      else if (done && down && box) this.pickBox(down, e)
      down = box = undefined
    }
    el.addEventListener('pointerup', (e) => end(e, true))
    el.addEventListener('pointercancel', (e) => end(e, false))
    this.fit()
    this.watcher = new ResizeObserver(() => {
      this.dirty = true
    })
    this.watcher.observe(host)
    const loop = () => {
      this.frame = requestAnimationFrame(loop)
      this.tick()
    }
    loop()
  }

  /** While the camera moves, what takes long to draw is drawn coarsely. */
  private coarse(on: boolean) {
    clearTimeout(this.rest)
    const set = () => {
      for (const p of this.panes)
        if (p.model && p.cost > 50) {
          p.model.coarse(on)
          this.dirty = true
        }
    }
    if (on) set()
    else this.rest = window.setTimeout(set, 250) // the wheel turns in steps
  }

  dispose() {
    clearTimeout(this.rest)
    cancelAnimationFrame(this.frame)
    this.watcher.disconnect()
    this.controls.dispose()
    for (const p of this.panes) {
      p.token = -1
      this.clear(p)
    }
    this.renderer.dispose()
    this.renderer.forceContextLoss()
    this.renderer.domElement.remove()
  }

  /** Looks from three quarters front, slightly above, from as far as it takes,
   * at what is chosen or at everything. */
  fit() {
    const yaw = (-32 * Math.PI) / 180,
      pitch = (14 * Math.PI) / 180
    this.controls.target.set(0, 0, 0)
    this.lens.position
      .set(Math.sin(yaw) * Math.cos(pitch), Math.sin(pitch), Math.cos(yaw) * Math.cos(pitch))
      .multiplyScalar(4.6)
    const p = this.panes[0]
    if (p?.model && this.look.chosen.length > 0) {
      const box = p.model.extent(this.look),
        r = box.getSize(new THREE.Vector3()).length() / 2
      this.controls.target.copy(box.getCenter(new THREE.Vector3()).sub(p.centre).divideScalar(p.radius))
      this.lens.position.multiplyScalar(Math.max(r / p.radius, 0.005) * 1.1).add(this.controls.target)
    }
    this.controls.update()
    this.dirty = true
  }

  /** Shows one scene, or two side by side. */
  show(list: Content[]) {
    while (this.panes.length > list.length) {
      const p = this.panes.pop()!
      p.token = -1
      this.clear(p)
    }
    this.align()
    list.forEach((content, i) => {
      const p = (this.panes[i] ??= this.newPane())
      const before = p.content
      p.content = content
      if (before.marks !== content.marks)
        p.marks.geometry.setAttribute('position', new THREE.Float32BufferAttribute(content.marks ?? [], 3))
      if (before.url === content.url) {
        if (p.model) {
          this.place(p)
          p.model.collide(content.balls ?? [])
          p.model.dress(this.look)
        }
        return
      }
      const token = ++p.token
      new GLTFLoader().load(
        content.url,
        (g) => {
          if (p.token !== token) return
          this.clear(p)
          p.model = new Model3D(g, () => this.paint)
          p.scene.add(p.model.root)
          p.model.collide(p.content.balls ?? [])
          this.place(p)
          p.model.dress(this.look)
          this.run(p, true)
        },
        (e) => {
          if (p.token === token) this.onLoad(i, e.loaded, e.total)
        },
        (e) => {
          if (p.token === token)
            this.onError(i, e instanceof Error ? e.message : 'the scene could not be loaded')
        },
      )
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
    const figure = new THREE.Mesh(
      new THREE.ShapeGeometry(shape),
      new THREE.MeshBasicMaterial({ color: this.man, side: THREE.DoubleSide }),
    )
    scene.add(figure)
    const lines = new THREE.LineSegments(
      new THREE.BufferGeometry(),
      new THREE.LineBasicMaterial({ color: this.paint.verdi, depthTest: false, transparent: true }),
    )
    const dots = new THREE.Points(
      new THREE.BufferGeometry(),
      new THREE.PointsMaterial({
        color: this.paint.ink,
        size: 5,
        sizeAttenuation: false,
        depthTest: false,
        transparent: true,
      }),
    )
    lines.renderOrder = dots.renderOrder = 10
    lines.frustumCulled = dots.frustumCulled = false
    lines.visible = dots.visible = this.look.skeleton
    // Nearer to the eye than the surface that they lie on.
    const marks = new THREE.LineSegments(
      new THREE.BufferGeometry(),
      new THREE.LineBasicMaterial({
        color: this.paint.iron,
        depthTest: false,
        transparent: true,
        opacity: 0.7,
      }),
    )
    marks.renderOrder = 8
    marks.frustumCulled = false
    scene.add(lines, dots, marks)
    return {
      scene,
      figure,
      lines,
      dots,
      marks,
      centre: new THREE.Vector3(),
      radius: 1,
      own: { centre: new THREE.Vector3(), radius: 1 },
      content: { url: '' },
      token: 0,
      height: 0,
      cost: -1,
      camera: new THREE.PerspectiveCamera(this.lens.fov),
    }
  }

  private clear(p: Pane) {
    if (p.model) {
      p.scene.remove(p.model.root)
      p.model.dispose()
    }
    p.model = undefined
    p.action = undefined
    p.cost = -1
  }

  /** Sets the ground, the figure and the frame round the model. */
  private place(p: Pane) {
    const box = p.model!.box.clone()
    if (box.isEmpty()) box.set(new THREE.Vector3(-0.5, 0, -0.5), new THREE.Vector3(0.5, 1, 0.5))
    p.height = box.max.y - box.min.y
    const own = box.getSize(new THREE.Vector3())
    p.figure.position.set(box.min.x - 0.55, box.min.y, (box.min.z + box.max.z) / 2)
    const all = box.clone()
    // Beside a thing of a few centimetres the figure would be all there is to see.
    p.figure.visible = this.withFigure && own.length() > FIGURE / 12
    if (p.figure.visible)
      all
        .expandByPoint(p.figure.position.clone().add(new THREE.Vector3(-0.35, 0, 0)))
        .expandByPoint(p.figure.position.clone().add(new THREE.Vector3(0, FIGURE, 0)))
    const turned = p.content.axes && directions(p.content.axes)
    if (turned) {
      // the axes stand at the right, within the picture
      const r = all.getSize(new THREE.Vector3()).length() / 2
      all.expandByPoint(new THREE.Vector3(box.max.x + r * 0.38, box.min.y, box.max.z))
    }
    const size = all.getSize(new THREE.Vector3())
    all.getCenter(p.own.centre)
    p.own.radius = Math.max(size.length() / 2, 1e-6)
    this.align()
    const wide = Math.max(size.x, size.z, p.radius * 0.2)
    const step = Math.pow(10, Math.round(Math.log10(wide / 4)))
    const n = 2 * Math.ceil((wide * 1.5) / step / 2) + 2
    this.newGrid(
      p,
      step,
      n,
      new THREE.Vector3(
        Math.round(p.centre.x / step) * step,
        box.min.y,
        Math.round(p.centre.z / step) * step,
      ),
    )
    this.newAxes(p, box, turned)
    this.dirty = true
  }

  /** Two of about one size and place are framed as one, so that they lie over
   * each other; others each by itself. */
  private align() {
    const [a, b] = this.panes
    for (const p of this.panes) {
      p.centre.copy(p.own.centre)
      p.radius = p.own.radius
    }
    if (!a?.model || !b?.model) return
    const most = Math.max(a.radius, b.radius),
      least = Math.min(a.radius, b.radius)
    if (most > 3 * least || a.centre.distanceTo(b.centre) > most) return
    b.centre.copy(a.centre)
    a.radius = b.radius = most
  }

  private newGrid(p: Pane, step: number, n: number, at: THREE.Vector3) {
    if (p.grid) {
      p.scene.remove(p.grid)
      p.grid.dispose()
    }
    p.grid = new THREE.GridHelper(n * step, n, this.grid, this.grid)
    p.grid.userData = { step, n }
    p.grid.position.copy(at)
    p.scene.add(p.grid)
  }

  /** The file's three axes at a corner of the ground before the model, where all of them are known. */
  private newAxes(p: Pane, box: THREE.Box3, turned: [string, THREE.Vector3][] | undefined) {
    if (p.axes) {
      p.scene.remove(p.axes)
      p.axes.traverse((o) => {
        const m = o as THREE.Mesh
        m.geometry?.dispose()
        ;(m.material as THREE.SpriteMaterial | undefined)?.map?.dispose()
        ;(m.material as THREE.Material | undefined)?.dispose()
      })
    }
    p.axes = undefined
    if (!turned) return
    const g = (p.axes = new THREE.Group()),
      long = p.radius * 0.2
    g.position.set(box.max.x + p.radius * 0.14, box.min.y, box.max.z)
    for (const [name, dir] of turned) {
      const end = dir.clone().multiplyScalar(long)
      g.add(
        new THREE.Line(
          new THREE.BufferGeometry().setFromPoints([new THREE.Vector3(), end]),
          new THREE.LineBasicMaterial({ color: this.paint.ink }),
        ),
      )
      const canvas = document.createElement('canvas')
      canvas.width = canvas.height = 64
      const c = canvas.getContext('2d')!
      c.font = '600 44px "IBM Plex Mono", monospace'
      c.textAlign = 'center'
      c.textBaseline = 'middle'
      c.fillStyle = this.paint.ink
      c.fillText(name, 32, 34)
      const s = new THREE.Sprite(
        new THREE.SpriteMaterial({
          map: new THREE.CanvasTexture(canvas),
          sizeAttenuation: false,
          depthTest: false,
        }),
      )
      s.scale.setScalar(0.022)
      s.position.copy(end).multiplyScalar(1.16)
      g.add(s)
    }
    p.scene.add(g)
  }

  colour(paint: Palette, figure: string, grid: string) {
    this.paint = paint
    this.grid = grid
    this.man = figure
    for (const p of this.panes) {
      ;(p.lines.material as THREE.LineBasicMaterial).color.set(paint.verdi)
      ;(p.marks.material as THREE.LineBasicMaterial).color.set(paint.iron)
      ;(p.dots.material as THREE.PointsMaterial).color.set(paint.ink)
      ;(p.figure.material as THREE.MeshBasicMaterial).color.set(figure)
      if (p.model) {
        this.place(p)
        p.model.dress(this.look)
      }
    }
    this.dirty = true
  }

  /** How the surfaces are shown, and what else. */
  dress(look: Look, figure: boolean) {
    this.look = look
    const changed = this.withFigure !== figure
    this.withFigure = figure
    for (const p of this.panes) {
      p.lines.visible = p.dots.visible = look.skeleton
      if (changed && p.model) this.place(p)
      p.model?.dress(look)
    }
    this.dirty = true
  }

  /** What is played, how fast, and where it stands. */
  move(play: Play) {
    const began = play.playing && !this.play.playing
    this.play = play
    for (const p of this.panes) this.run(p, began || !play.playing)
    this.clock.getDelta()
    this.dirty = true
  }

  private run(p: Pane, jump: boolean) {
    const m = p.model,
      clip = m && (m.clips[this.play.motion] ?? m.clips[0])
    if (!m || !clip) return
    if (p.action?.getClip() !== clip) {
      m.mixer.stopAllAction()
      p.action = m.mixer.clipAction(clip)
    }
    m.mixer.timeScale = 1
    if (this.play.playing || this.play.time > 0) {
      p.action.play()
      if (jump) m.mixer.setTime(this.play.time)
      m.mixer.timeScale = this.play.speed
    } else m.mixer.stopAllAction()
  }

  private pick(e: PointerEvent) {
    const r = this.renderer.domElement.getBoundingClientRect(),
      n = this.panes.length
    const i = Math.min(n - 1, Math.floor(((e.clientX - r.left) / r.width) * n)),
      p = this.panes[i]
    if (!p?.model) return
    const ray = new THREE.Raycaster()
    p.scene.updateMatrixWorld()
    ray.params.Points.threshold = ray.params.Line.threshold = p.radius * 0.004
    ray.setFromCamera(
      new THREE.Vector2(
        (((e.clientX - r.left) / r.width) * n - i) * 2 - 1,
        1 - ((e.clientY - r.top) / r.height) * 2,
      ),
      p.camera,
    )
    this.onPick(i, p.model.hit(ray))
  }

  /** What lies in a box on the screen: things whose middle does. */
  private pickBox(from: [number, number], e: PointerEvent) {
    const r = this.renderer.domElement.getBoundingClientRect(),
      n = this.panes.length
    const i = Math.min(n - 1, Math.floor(((from[0] - r.left) / r.width) * n)),
      p = this.panes[i]
    if (!p?.model) return
    const [x, y, w, h] = span(from, e)
    const across = (v: number) => (((v - r.left) / r.width) * n - i) * 2 - 1
    const upwards = (v: number) => 1 - ((v - r.top) / r.height) * 2
    p.scene.updateMatrixWorld()
    this.onBox?.(
      i,
      p.model.within(
        new THREE.Box2(
          new THREE.Vector2(across(x), upwards(y + h)),
          new THREE.Vector2(across(x + w), upwards(y)),
        ),
        p.camera,
      ),
    )
  }

  private bones(p: Pane) {
    const at: number[] = [],
      ends: number[] = [],
      v = new THREE.Vector3()
    for (const [b, parent] of p.model?.bones ?? []) {
      b.getWorldPosition(v)
      at.push(v.x, v.y, v.z)
      if (parent) {
        ends.push(v.x, v.y, v.z)
        parent.getWorldPosition(v)
        ends.push(v.x, v.y, v.z)
      }
    }
    p.dots.geometry.setAttribute('position', new THREE.Float32BufferAttribute(at, 3))
    p.lines.geometry.setAttribute('position', new THREE.Float32BufferAttribute(ends, 3))
  }

  private tick() {
    const delta = this.clock.getDelta()
    if (this.play.playing) {
      for (const p of this.panes) p.model?.mixer.update(delta)
      const a = this.panes[0]?.action
      if (a) this.onTime(a.time)
      this.dirty = true
    }
    if (!this.dirty) return
    this.dirty = false
    const w = this.host.clientWidth,
      h = this.host.clientHeight
    if (w === 0 || h === 0) return
    const size = this.renderer.getSize(new THREE.Vector2())
    if (size.x !== w || size.y !== h) this.renderer.setSize(w, h, false)
    const each = w / Math.max(1, this.panes.length)
    const facts: Facts[] = []
    if (this.panes.length === 0) {
      this.renderer.setScissor(0, 0, w, h)
      this.renderer.clear()
    }
    this.panes.forEach((p, i) => {
      const cam = p.camera
      cam.aspect = each / h
      // A narrow pane steps back so that the sides stay in view.
      const back = Math.max(1, (1 / cam.aspect) * 0.82)
      const offset = this.lens.position.clone().sub(this.controls.target)
      cam.near = p.radius * Math.min(0.01, offset.length() / 20)
      cam.far = p.radius * 200
      cam.position
        .copy(p.centre)
        .addScaledVector(this.controls.target, p.radius)
        .addScaledVector(offset, p.radius * back)
      cam.quaternion.copy(this.lens.quaternion)
      cam.updateProjectionMatrix()
      p.figure.rotation.y = Math.atan2(
        cam.position.x - p.figure.position.x,
        cam.position.z - p.figure.position.z,
      )
      if (this.look.skeleton) {
        p.scene.updateMatrixWorld()
        this.bones(p)
      }
      this.renderer.setViewport(i * each, 0, each, h)
      this.renderer.setScissor(i * each, 0, each, h)
      // A large model is timed once, to the end: the pixel that is read waits for it. The first time it is sent to the GPU.
      const time = p.model && p.model.triangles > 500_000 && p.cost < 0
      const begun = performance.now()
      this.renderer.render(p.scene, cam)
      if (time) {
        const gl = this.renderer.getContext()
        gl.readPixels(0, 0, 1, 1, gl.RGBA, gl.UNSIGNED_BYTE, new Uint8Array(4))
        if (p.cost < -1) p.cost = performance.now() - begun
        else {
          p.cost = -2
          this.dirty = true
        }
      }
      const distance = offset.length() * p.radius * back
      facts.push({
        ready: !!p.model,
        triangles: p.model?.triangles ?? 0,
        height: p.height,
        metresPer200px: (2 * Math.tan((cam.fov * Math.PI) / 360) * distance * 200) / h,
      })
    })
    this.onDraw(facts)
  }
}

/** The box between two places on the screen: left, top, width and height. */
function span(from: [number, number], to: { clientX: number; clientY: number }) {
  return [
    Math.min(from[0], to.clientX),
    Math.min(from[1], to.clientY),
    Math.abs(to.clientX - from[0]),
    Math.abs(to.clientY - from[1]),
  ] as const
}

/** Where the file's X, Y and Z run in the view, which is right-handed with Y up and Z to the front. */
export function directions(a: Axes): [string, THREE.Vector3][] | undefined {
  const axis = (t: string) =>
    /^[+-]?[XYZ]$/.test(t) ? { k: 'XYZ'.indexOf(t[t.length - 1]), s: t[0] === '-' ? -1 : 1 } : undefined
  const up = axis(a.up),
    front = axis(a.front)
  if (!up || !front || up.k === front.k || (a.handedness !== 'right' && a.handedness !== 'left'))
    return undefined
  const out = [new THREE.Vector3(), new THREE.Vector3(), new THREE.Vector3()]
  out[up.k].set(0, up.s, 0)
  out[front.k].set(0, 0, front.s)
  const side = 3 - up.k - front.k
  // Of a right-handed file X × Y = Z and so on round; of a left-handed one it is the other way.
  out[side]
    .copy(out[(side + 1) % 3])
    .cross(out[(side + 2) % 3])
    .multiplyScalar(a.handedness === 'right' ? 1 : -1)
  return out.map((v, k) => ['XYZ'[k], v])
}
