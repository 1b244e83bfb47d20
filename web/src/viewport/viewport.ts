import * as THREE from 'three'
import { OrbitControls } from 'three/examples/jsm/controls/OrbitControls.js'

import { client, type Schemas } from '../api/client'
import { Elements, type Drawn } from './elements'
import type { Gesture, Spot } from './gestures'
import { figure } from './figure'
import { Handles } from './handles'
import { empty, meshGeometry, place } from './meshes'
import type { Packed } from './packed'
import { Pointing } from './pointing'
import {
  kindsMaterial,
  leftOutMaterial,
  mistMaterial,
  RAMP,
  type Look,
  pointMaterial,
  shadedMaterial,
  solidMaterial,
  surfaceMaterial,
} from './materials'
import { marks, type Marked } from './marks'
import { ruler } from './ruler'
import { SeaSurface, type SeaLook } from './sea'
import { Sketch } from './sketch'
import { PullWall, Walls } from './walls'
import { keyUnder, PullKey, type WayPoint } from './wayPoints'

interface SceneShape extends Marked {
  time: { first: number }
  elements: Drawn[]
  camera?: unknown
  sea?: { made: boolean }
}

const SHEER = 0.8 // how much of what lies in a liquid its surface hides, where both are seen
const SOFT = 1.4 // voxels: how large points of mist are drawn (`SOFT` of the mist stage)
const FLAT = 3 // degrees of a view without perspective

/**
 * The instrument that shows a shot: particles, surface, elements, domain. It renders only when
 * something changed and knows nothing of the page around it.
 */
export class Viewport {
  private renderer: THREE.WebGLRenderer
  private scene = new THREE.Scene()
  private camera = new THREE.PerspectiveCamera(35, 1, 0.01, 5000)
  private controls: OrbitControls | undefined
  private liquid = new THREE.Group()
  private elements: Elements
  private solid = new THREE.Group()
  private frame = new THREE.Group()
  private marks = new THREE.Group()
  private at = 0
  private shape: SceneShape | undefined
  private laidOut = ''
  private scheduled = false
  private generation = 0
  private settledAt = 0
  private range: [number, number] = [0, 1]
  private kinds: Look = { seen: [], layers: [], trueSize: false, adding: false }
  /** the shot camera, once or for every frame, and whether the view goes along with it */
  private seen: Schemas['Seen'][] = []
  private following = false
  readonly handles: Handles | undefined
  readonly sketch = new Sketch()
  private walls = new Walls()
  /** m, of the quality that is looked at */
  voxel = 0.02
  private pointing: Pointing | undefined
  private gesture: Gesture | null = null
  private picked: number[] = []
  onMove: () => void = () => {}
  onPick: (index: number | null, more: boolean) => void = () => {}
  onPlaced: (index: number, from: THREE.Matrix4, to: THREE.Matrix4) => void = () => {}
  onMade: (gesture: Gesture) => void = () => {}
  onLeft: () => void = () => {}
  onSketch: (gesture: Gesture) => void = () => {}
  onHover: (spot: Spot | null) => Spot | null = (spot) => spot
  onSay: (lines: string[], x: number, y: number) => void = () => {}

  constructor(
    private canvas: HTMLCanvasElement,
    private options: { small?: boolean } = {},
  ) {
    this.renderer = new THREE.WebGLRenderer({
      canvas,
      antialias: true,
      alpha: true,
      preserveDrawingBuffer: true,
    })
    this.renderer.setPixelRatio(options.small ? 1 : Math.min(devicePixelRatio, 2))
    this.marks.visible = false
    this.elements = new Elements(!!options.small, () => this.render())
    this.scene.add(
      this.liquid,
      this.elements.group,
      this.solid,
      this.frame,
      this.marks,
      this.sketch.group,
      this.walls.group,
      this.stature,
    )
    this.scene.add(new THREE.HemisphereLight('#d3dfe2', '#1f272b', 1.15))
    const sun = new THREE.DirectionalLight('#fff6e2', 1.8)
    sun.position.set(2, 4, 3)
    this.scene.add(sun)
    if (!options.small) {
      this.controls = new OrbitControls(this.camera, canvas)
      this.controls.addEventListener('start', () => this.upright())
      this.controls.addEventListener('change', () => {
        this.render()
        this.onMove()
      })
      this.handles = new Handles(this.camera, canvas, this.scene, () => this.render())
      // before the view's own handler: a press on a handle does not turn the view
      canvas.addEventListener('pointerdown', () => (this.controls!.enabled = !this.handles!.hot), true)
      this.pointing = new Pointing(canvas, this.camera, this.elements, this.handles, () => this.floor(), {
        picked: (index, more) => this.onPick(index, more),
        grabbed: (ray, at) => (this.gesture = this.walls.grab(ray, this.voxel) ?? this.grabKey(at)),
        hovered: (spot) => this.onHover(spot),
        sketched: () => this.drawGesture(),
        finished: (gesture) => this.endGesture(gesture),
        left: () => this.leaveGesture(),
        says: (lines, x, y) => this.onSay(lines, x, y),
      })
      this.handles.onDrag = ({ matrix, says, on }) => {
        if (this.main === null) return
        this.carry(matrix)
        this.sketch.snapped(on && { ...on, size: 0.03 * on.point.distanceTo(this.camera.position) })
        if (on) says = [`on ${this.named(on)}`, ...says]
        const [x, y] = this.onScreen(new THREE.Vector3().setFromMatrixPosition(matrix))
        this.onSay(says, x, y)
        this.render()
      }
      this.handles.onEnd = (matrix) => {
        this.controls!.enabled = true
        this.sketch.snapped(null)
        this.onSay([], 0, 0)
        if (this.main === null || matrix.equals(this.held)) return
        this.onPlaced(this.main, this.held.clone(), matrix)
        this.held.copy(matrix)
      }
      this.handles.onto = (event) => this.pointing!.onto(event, this.picked, (p) => this.onScreen(p))
    }
  }

  /** What something is put on, in words. */
  private named({ index, called }: Spot): string {
    const name = index === null ? 'the floor' : (this.shape?.elements[index]?.name ?? '')
    return called ? `the ${called} of ${name}` : name
  }

  /** The element that handles hold; others that are picked go along. */
  private get main(): number | null {
    return this.picked.at(-1) ?? null
  }

  /** What is picked goes along with the one that is dragged. */
  private carry(matrix: THREE.Matrix4) {
    const by = matrix.clone().multiply(this.held.clone().invert())
    for (const index of this.picked) {
      const from = index === this.main ? this.held : this.before.get(index)
      if (from && !(index !== this.main && this.elements.isLocked(index)))
        this.elements.carry(index, by.clone().multiply(from))
    }
  }

  private held = new THREE.Matrix4()
  private before = new Map<number, THREE.Matrix4>()

  /** Keys of the way that is drawn, which can be pulled. */
  private keys: { element: number; points: WayPoint[] } | null = null

  /** Draw the way of an element, its keys as points that can be pulled; nothing for none. */
  showWay(element: number | null, times: number[], fps: number) {
    const way = element === null ? [] : this.elements.pathOf(element)
    const moves = way.length > 1
    const points = times.flatMap((time) => {
      const at = way[Math.round(time * fps)] // keys after the shot are not seen
      const frame = (this.shape?.time.first ?? 1) + Math.round(time * fps)
      return at ? [{ time, frame, at: at.clone() }] : []
    })
    this.keys = moves && element !== null ? { element, points } : null
    this.sketch.path(moves ? way : [], moves ? points.map((p) => p.at) : [])
    this.render()
  }

  private grabKey(at: { x: number; y: number }): PullKey | null {
    if (!this.keys || this.handles?.hot) return null
    const { element, points } = this.keys
    const key = keyUnder(points, at, (point) => this.onScreen(point))
    if (!key) return null
    return new PullKey(element, key, (to) => {
      this.sketch.measured([key.at, to])
      this.render()
    })
  }

  /** Take hold of what is picked, or let go. */
  private hold() {
    const main = this.main
    const place = main === null || this.elements.isLocked(main) ? null : this.elements.placeOf(main)
    if (place) this.held.copy(place)
    this.before = new Map(
      this.picked.map((index) => [index, this.elements.placeOf(index) ?? new THREE.Matrix4()]),
    )
    this.handles?.attach(place, Math.max(...(this.shape?.domain.size ?? [1])))
  }

  /** Where an element stands in the scene, now or so many frames from the first. */
  placeOf(index: number, n?: number): THREE.Matrix4 | null {
    return this.elements.placeOf(index, n)
  }

  /** Where something that is picked stood before it was dragged. */
  placeBefore(index: number): THREE.Matrix4 | null {
    return this.before.get(index) ?? null
  }

  /** The height that something lies on where nothing else is: the domain's floor. */
  private floor(): number {
    return this.shape?.domain.low[1] ?? 0
  }

  /** Pixels of a point of the scene. */
  onScreen(point: THREE.Vector3): [number, number] {
    const seen = point.clone().project(this.camera)
    return [((seen.x + 1) / 2) * this.canvas.clientWidth, ((1 - seen.y) / 2) * this.canvas.clientHeight]
  }

  /** Pixels of a point in metres, and how far a handle's arrow is from its middle (m); for tests. */
  pixels(place: [number, number, number]): [number, number] {
    return this.onScreen(new THREE.Vector3(...place))
  }

  arm(): number {
    const held = new THREE.Vector3().setFromMatrixPosition(this.held)
    const far = held.distanceTo(this.camera.position)
    return 0.1 * 0.72 * far * Math.min(1.9 * Math.tan((Math.PI * this.camera.fov) / 360), 7)
  }

  /** Make a gesture at the next press, or none any more. */
  use(gesture: Gesture | null) {
    this.gesture = gesture
    this.pointing?.use(gesture)
    this.sketch.element(null)
    this.handles?.attach(null)
    if (!gesture) this.hold()
    this.render()
  }

  /** Show the domain's walls and their grips, or not. */
  showWalls(seen: boolean) {
    this.walls.group.visible = seen
    this.render()
  }

  /** A gesture has come to know more: say it. */
  retell() {
    this.pointing?.retell()
  }

  private drawGesture() {
    if (this.gesture instanceof PullWall) this.walls.set(this.gesture.domain)
    this.sketch.element(this.gesture?.made() ?? null)
    if (this.gesture) this.onSketch(this.gesture)
    this.render()
  }

  private endGesture(gesture: Gesture) {
    this.use(null)
    this.onMade(gesture)
  }

  private leaveGesture() {
    this.use(null)
    this.onLeft()
  }

  resize(width: number, height: number) {
    this.renderer.setSize(width, height, false)
    this.camera.aspect = width / Math.max(height, 1)
    this.camera.updateProjectionMatrix()
    this.render()
  }

  /** Read a take and show its domain and elements. */
  async loadTake(take: number) {
    const { data } = await client.GET('/api/takes/{take_id}', { params: { path: { take_id: take } } })
    if (data) await this.setScene(take, data.scene as unknown as SceneShape)
    this.lookThrough()
  }

  /** Whether what is drawn is the newest scene; for tests. */
  get settled(): boolean {
    return this.settledAt === this.generation
  }

  /** Show another state of the scene; the camera stays where it is. */
  async setScene(take: number, shape: SceneShape) {
    const { time, domain, elements, camera } = shape
    const all = JSON.stringify([take, time, domain, elements, camera, shape.sea?.made])
    this.mark(shape)
    if (all === this.laidOut) return
    this.laidOut = all
    const mine = ++this.generation
    const first = !this.shape
    this.shape = shape
    empty(this.frame)
    this.walls.set(shape.domain)
    // a sea has no domain
    const boxed = !shape.sea?.made || shape.elements.some((e) => e.kind === 'fill' || e.kind === 'inflow')
    if (!this.options.small && boxed) this.frame.add(...ruler(shape.domain.low, shape.domain.size))
    const { data: seen } = await client.GET('/api/takes/{take_id}/camera', {
      params: { path: { take_id: take } },
    })
    if (mine !== this.generation) return
    this.seen = seen ?? []
    if (first) this.lookThrough()
    const reach = 1.4 * Math.max(...domain.size)
    if (!(await this.elements.set(take, elements, time.first, reach))) this.laidOut = ''
    if (mine !== this.generation) return
    this.settledAt = mine
    if (!this.handles?.dragging && !this.pointing?.busy) this.hold()
    this.render()
  }

  /** Draw where the surface is cut and what is joined to it. */
  mark(shape: Marked) {
    empty(this.marks)
    for (const mark of marks(shape)) this.marks.add(mark)
    this.render()
  }

  showMarks(seen: boolean) {
    this.marks.visible = seen
    this.render()
  }

  /** Put moving elements where they are, `n` frames from the first. */
  showTime(n: number) {
    this.at = n
    if (this.following && this.seen.length > 1) this.lookThrough()
    this.elements.showTime(n)
    if (!this.handles?.dragging) this.hold()
    this.render()
  }

  /** Mark elements, and see them through what hides them; handles hold the last of them. */
  select(indices: number[]) {
    this.picked = indices
    this.elements.select(indices)
    if (!this.pointing?.busy) this.hold()
    this.render()
  }

  showPoints(packed: Packed, beside = false) {
    if (!beside) this.clearLiquid()
    if (packed.count) {
      const geometry = new THREE.BufferGeometry()
      geometry.setAttribute('position', new THREE.BufferAttribute(packed.position, 3, true))
      shade(geometry, packed)
      const thinned = Math.cbrt(packed.total / packed.count)
      const radius = (packed.spacing ?? 0.01) * 0.62 * thinned
      if (packed.forms) return this.showKinds(packed, geometry, radius, beside)
      const soft = packed.soft && mistMaterial(SOFT * (packed.spacing ?? 0.01), packed.soft)
      const points = new THREE.Points(geometry, soft || pointMaterial(radius, !!packed.colour))
      place(points, packed)
      points.frustumCulled = false
      if (soft) points.renderOrder = 4
      this.liquid.add(points)
    }
    this.render()
  }

  /** Bubbles first, so that they are seen through the surface that lies over them, then foam and spray. */
  private showKinds(packed: Packed, geometry: THREE.BufferGeometry, radius: number, beside: boolean) {
    const colours = packed.names ? 'kind' : packed.colour ? 'own' : 'ramp'
    const [spray, foam, bubbles] = [0, 1, 2].map((n) => this.kinds.seen[n] !== false)
    const passes = beside
      ? [
          [false, false, bubbles],
          [spray, foam, false],
        ]
      : [[spray, foam, bubbles]]
    for (const [n, seen] of passes.entries()) {
      const look = { ...this.kinds, seen }
      const points = new THREE.Points(
        geometry,
        kindsMaterial(radius, colours, packed.least_radius ?? 1e-3, look),
      )
      place(points, packed)
      points.frustumCulled = false
      points.renderOrder = 2 * n
      this.liquid.add(points)
    }
    this.render()
  }

  /** How points of several kinds are drawn from the next picture on. */
  lookAt(kinds: Look) {
    this.kinds = kinds
  }

  /** Mark particles that what is judged does not show, whatever hides them. */
  showLeftOut(packed: Packed) {
    if (!packed.left_out || !packed.left_out_position) return
    const geometry = new THREE.BufferGeometry()
    geometry.setAttribute('position', new THREE.BufferAttribute(packed.left_out_position, 3, true))
    const points = new THREE.Points(geometry, leftOutMaterial())
    place(points, packed.left_out)
    points.frustumCulled = false
    points.renderOrder = 3
    this.liquid.add(points)
    this.render()
  }

  /** Show a frame of a sea to the horizon. */
  showSea(packed: Packed, look: SeaLook) {
    this.clearLiquid()
    if (!this.sea) {
      this.sea = new SeaSurface(RAMP)
      this.scene.add(this.sea.group)
    }
    this.sea.show(packed, look)
    this.sea.setRange(...this.range)
    this.render()
  }
  private sea: SeaSurface | undefined

  /** What the graphics card moves points of the sea at rest by, m; for tests. */
  seaMovedAt(points: [number, number][]): number[][] {
    return this.sea?.movedAt(this.renderer, points) ?? []
  }

  showMesh(packed: Packed, wire = false, sheer = false) {
    this.clearLiquid()
    if (packed.count) {
      const geometry = meshGeometry(packed)
      shade(geometry, packed)
      const material = packed.by ? shadedMaterial(!!packed.colour) : surfaceMaterial(sheer ? SHEER : 1)
      material.wireframe = wire
      const mesh = new THREE.Mesh(geometry, material)
      place(mesh, packed)
      mesh.frustumCulled = false
      mesh.renderOrder = sheer ? 1 : 0
      this.liquid.add(mesh)
    }
    this.render()
  }

  /** Show a collider as the solver's grid has it in its place; null shows itself again. */
  showSolid(packed: Packed | null, index: number | null = null) {
    empty(this.solid)
    this.elements.withhold(packed ? index : null)
    if (packed?.count) {
      const mesh = new THREE.Mesh(meshGeometry(packed), solidMaterial('#b98b3e', 1))
      place(mesh, packed)
      this.solid.add(mesh)
    }
    this.render()
  }

  clearLiquid() {
    empty(this.liquid)
    this.sea?.hide()
  }

  /** What the graphics processor holds now; for tests. */
  memory(): { geometries: number; textures: number } {
    return { ...this.renderer.info.memory }
  }

  /** Where the ramp begins and ends, as shares of the shades. */
  setRange(low: number, high: number) {
    this.range = [low, high]
    this.sea?.setRange(low, high)
    this.render()
  }

  /** Stand where the shot's camera stands. */
  lookThrough() {
    const view = this.seen[Math.min(this.at, this.seen.length - 1)]
    if (!view) return
    this.following = true
    this.camera.position.fromArray(view.eye)
    this.camera.fov = view.angle
    const target = new THREE.Vector3().fromArray(view.target)
    const ahead = target.clone().sub(this.camera.position).normalize()
    this.camera.up.set(0, 1, 0).applyAxisAngle(ahead, (view.roll * Math.PI) / 180)
    this.aim(target)
  }

  /** From here on the view is the artist's own. */
  private upright() {
    this.following = false
    this.camera.up.set(0, 1, 0)
  }

  /** The point that the view turns about. */
  middle(): number[] {
    return this.standing().target
  }

  /** Where one stands now, as a view has it. */
  standing(): { eye: number[]; target: number[]; angle: number; roll: number } {
    const tidy = (v: THREE.Vector3) => v.toArray().map((x) => +x.toFixed(5))
    const target = this.controls?.target ?? new THREE.Vector3()
    return {
      eye: tidy(this.camera.position),
      target: tidy(target),
      angle: +this.camera.fov.toFixed(3),
      roll: 0,
    }
  }

  /** Stand where a kept view stands. */
  stand(view: { eye: number[]; target: number[]; angle: number }) {
    this.upright()
    this.camera.position.fromArray(view.eye)
    this.camera.fov = view.angle
    this.aim(new THREE.Vector3().fromArray(view.target))
  }

  /** Draw views along axes into canvases beside this one. */
  showBeside(views: { axis: 'x' | 'y' | 'z'; canvas: HTMLCanvasElement }[]) {
    this.besides = views
    this.render()
  }
  private besides: { axis: 'x' | 'y' | 'z'; canvas: HTMLCanvasElement }[] = []

  /** A figure of 1.75 m that stands at the domain's corner, or none. */
  showFigure(on: boolean) {
    empty(this.stature)
    if (on && this.shape) {
      const made = figure()
      const { low, size } = this.shape.domain
      made.position.set(low[0] - Math.max(0.35, 0.02 * size[0]), low[1], low[2] + size[2] / 2)
      this.stature.add(made)
    }
    this.render()
  }
  private stature = new THREE.Group()

  /** An image behind everything while the view is through the shot camera; nothing for none. */
  showBackdrop(texture: THREE.Texture | null) {
    this.backdrop?.dispose()
    this.backdrop = texture
    this.render()
  }
  private backdrop: THREE.Texture | null = null

  /** See the whole domain. */
  fit() {
    if (!this.shape) return
    this.upright()
    const low = new THREE.Vector3().fromArray(this.shape.domain.low)
    const size = new THREE.Vector3().fromArray(this.shape.domain.size)
    const centre = low.clone().addScaledVector(size, 0.5)
    const distance = (size.length() / 2 / Math.sin((this.camera.fov * Math.PI) / 360)) * 1.05
    const away = this.camera.position.clone().sub(centre)
    if (away.lengthSq() < 1e-9) away.set(1, 0.7, 1.2)
    this.camera.position.copy(centre).addScaledVector(away.normalize(), distance)
    this.aim(centre)
  }

  /** See some elements alone, or all. */
  isolate(indices: number[] | null) {
    this.elements.isolate(indices)
    this.render()
  }

  /** Whether an element is kept from being picked. */
  isLocked(index: number): boolean {
    return this.elements.isLocked(index)
  }

  /** Volume (m3) that an element encloses. */
  volumeOf(index: number): number {
    return this.elements.volumeOf(index)
  }

  /** Come near to some elements, or to a point. */
  approach(what: number[] | [number, number, number], isPoint = false) {
    const found = isPoint
      ? {
          middle: new THREE.Vector3(...(what as [number, number, number])),
          size: 0.25 * Math.max(...(this.shape?.domain.size ?? [1])),
        }
      : this.elements.about(what)
    if (!found) return
    this.upright()
    const away = this.camera.position.clone().sub(this.controls?.target ?? new THREE.Vector3())
    if (away.lengthSq() < 1e-12) away.set(1, 0.7, 1.2)
    const far = (Math.max(found.size, 1e-3) * 0.8) / Math.sin((this.camera.fov * Math.PI) / 360)
    this.camera.position.copy(found.middle).addScaledVector(away.normalize(), far)
    this.aim(found.middle)
  }

  /** Ring a point of the scene, or nothing any more. */
  ring(point: [number, number, number] | null) {
    this.sketch.ring(
      point && new THREE.Vector3(...point),
      0.03 * Math.max(...(this.shape?.domain.size ?? [1])),
    )
    this.render()
  }

  /** See the domain along an axis, from so far that nothing is foreshortened. */
  along(axis: 'x' | 'y' | 'z') {
    if (!this.shape) return
    this.upright()
    this.aim(this.placeAlong(this.camera, axis))
  }

  /** Put a camera where it sees the domain along an axis; the point it looks at. */
  private placeAlong(camera: THREE.PerspectiveCamera, axis: 'x' | 'y' | 'z'): THREE.Vector3 {
    camera.fov = FLAT
    const { low, size } = this.shape!.domain
    const centre = new THREE.Vector3(...low.map((l, i) => l + size[i] / 2))
    const away = new THREE.Vector3(
      +(axis === 'x'),
      +(axis === 'y'),
      +(axis === 'z') + (axis === 'y' ? 1e-3 : 0),
    )
    const reach = Math.hypot(...size) / 2
    const far = (reach * 1.05) / Math.sin((FLAT * Math.PI) / 360) / Math.min(camera.aspect, 1)
    camera.position.copy(centre).addScaledVector(away, far)
    camera.lookAt(centre)
    return centre
  }

  private aim(target: THREE.Vector3) {
    this.camera.lookAt(target)
    this.camera.updateProjectionMatrix()
    if (this.controls) {
      this.controls.target.copy(target)
      this.controls.update()
    }
    this.render()
  }

  /** How many points or triangles are drawn now; for tests. */
  drawn(): number {
    const child = this.liquid.children[0] as THREE.Mesh | undefined
    if (!child) return 0
    return child.geometry.index
      ? child.geometry.index.count / 3
      : child.geometry.getAttribute('position').count
  }

  /** The picture as a data address. */
  picture(): string {
    this.draw()
    return this.canvas.toDataURL('image/png')
  }

  private draw() {
    for (const child of this.liquid.children) {
      const material = (child as THREE.Points).material as THREE.ShaderMaterial
      if (material.uniforms?.height) material.uniforms.height.value = this.canvas.height
      material.uniforms?.range?.value.set(...this.range)
    }
    this.drawBesides()
    this.sea?.follow(this.camera)
    this.scene.background = this.following ? this.backdrop : null
    if (this.backdrop) {
      // the camera's angle is upright: the image fills the height
      const { width, height } = this.backdrop.image as { width: number; height: number }
      const share = (this.camera.aspect * height) / width
      this.backdrop.repeat.set(share, 1)
      this.backdrop.offset.set((1 - share) / 2, 0)
    }
    this.renderer.render(this.scene, this.camera)
  }

  /** Views along the axes, drawn first and copied: the canvas ends with the one that is worked in. */
  private drawBesides() {
    if (!this.shape) return
    for (const { axis, canvas } of this.besides) {
      const [width, height] = [canvas.clientWidth, canvas.clientHeight]
      if (!width || !height) continue
      const ratio = this.renderer.getPixelRatio()
      canvas.width = Math.min(width * ratio, this.canvas.width)
      canvas.height = Math.min(height * ratio, this.canvas.height)
      const camera = new THREE.PerspectiveCamera(FLAT, canvas.width / canvas.height, 0.01, 5000)
      this.placeAlong(camera, axis)
      camera.updateProjectionMatrix()
      this.renderer.setViewport(0, 0, canvas.width / ratio, canvas.height / ratio)
      this.renderer.clear()
      this.renderer.render(this.scene, camera)
      const from = this.canvas.height - canvas.height
      canvas
        .getContext('2d')!
        .drawImage(this.canvas, 0, from, canvas.width, canvas.height, 0, 0, canvas.width, canvas.height)
    }
    if (this.besides.length) {
      const size = this.renderer.getSize(new THREE.Vector2())
      this.renderer.setViewport(0, 0, size.x, size.y)
    }
  }

  render() {
    if (this.options.small || this.scheduled) return
    this.scheduled = true
    requestAnimationFrame(() => {
      this.scheduled = false
      this.draw()
    })
  }

  dispose() {
    this.controls?.dispose()
    this.handles?.dispose()
    this.pointing?.dispose()
    this.sketch.clear()
    for (const group of [this.liquid, this.solid, this.frame, this.marks]) empty(group)
    this.elements.dispose()
    this.sea?.dispose()
    this.renderer.dispose()
    this.renderer.forceContextLoss()
  }
}

/** Give a geometry its shades or colours; materials want both attributes. */
function shade(geometry: THREE.BufferGeometry, packed: Packed) {
  if (packed.body) geometry.setAttribute('body', new THREE.BufferAttribute(packed.body, 4, true))
  if (packed.form) geometry.setAttribute('form', new THREE.BufferAttribute(packed.form, 1))
  if (packed.layer) geometry.setAttribute('layer', new THREE.BufferAttribute(packed.layer, 1))
  if (packed.size) geometry.setAttribute('size', new THREE.BufferAttribute(packed.size, 1))
  if (!packed.by) return
  const none = (width: number) => new Uint8Array(packed.count * width)
  geometry.setAttribute('shade', new THREE.BufferAttribute(packed.shade ?? none(1), 1, true))
  geometry.setAttribute('colour', new THREE.BufferAttribute(packed.colour ?? none(3), 3, true))
}
