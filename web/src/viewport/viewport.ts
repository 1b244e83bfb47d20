import * as THREE from 'three'
import { OrbitControls } from 'three/examples/jsm/controls/OrbitControls.js'

import { client, type Schemas } from '../api/client'
import { Elements, type Drawn } from './elements'
import type { Gesture, Spot } from './gestures'
import { Handles } from './handles'
import { empty, meshGeometry, place } from './meshes'
import type { Packed } from './packed'
import { Pointing } from './pointing'
import { pointMaterial, shadedMaterial, solidMaterial, surfaceMaterial } from './materials'
import { marks, type Marked } from './marks'
import { ruler } from './ruler'
import { Sketch } from './sketch'
import { PullWall, Walls } from './walls'

interface SceneShape extends Marked {
  time: { first: number }
  elements: Drawn[]
  camera?: unknown
}

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
  private range: [number, number] = [0, 1]
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
  private picked: number | null = null
  onMove: () => void = () => {}
  onPick: (index: number | null) => void = () => {}
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
        picked: (index) => this.onPick(index),
        grabbed: (ray) => (this.gesture = this.walls.grab(ray, this.voxel)),
        hovered: (spot) => this.onHover(spot),
        sketched: () => this.drawGesture(),
        finished: (gesture) => this.endGesture(gesture),
        left: () => this.leaveGesture(),
        says: (lines, x, y) => this.onSay(lines, x, y),
      })
      this.handles.onDrag = ({ matrix, says }) => {
        if (this.picked === null) return
        this.elements.carry(this.picked, matrix)
        const [x, y] = this.onScreen(new THREE.Vector3().setFromMatrixPosition(matrix))
        this.onSay(says, x, y)
        this.render()
      }
      this.handles.onEnd = (matrix) => {
        this.controls!.enabled = true
        this.onSay([], 0, 0)
        if (this.picked === null || matrix.equals(this.held)) return
        this.onPlaced(this.picked, this.held.clone(), matrix)
        this.held.copy(matrix)
      }
    }
  }

  private held = new THREE.Matrix4()

  /** Take hold of what is picked, or let go. */
  private hold() {
    const place = this.picked === null ? null : this.elements.placeOf(this.picked)
    if (place) this.held.copy(place)
    this.handles?.attach(place, Math.max(...(this.shape?.domain.size ?? [1])))
  }

  /** Where an element stands now, in the scene. */
  placeOf(index: number): THREE.Matrix4 | null {
    return this.elements.placeOf(index)
  }

  /** The way of an element that moves, a point a frame. */
  pathOf(index: number): THREE.Vector3[] {
    return this.elements.pathOf(index)
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

  /** Show another state of the scene; the camera stays where it is. */
  async setScene(take: number, shape: SceneShape) {
    const { time, domain, elements, camera } = shape
    const all = JSON.stringify([take, time, domain, elements, camera])
    this.mark(shape)
    if (all === this.laidOut) return
    this.laidOut = all
    const mine = ++this.generation
    const first = !this.shape
    this.shape = shape
    empty(this.frame)
    this.walls.set(shape.domain)
    if (!this.options.small) this.frame.add(...ruler(shape.domain.low, shape.domain.size))
    const { data: seen } = await client.GET('/api/takes/{take_id}/camera', {
      params: { path: { take_id: take } },
    })
    if (mine !== this.generation) return
    this.seen = seen ?? []
    if (first) this.lookThrough()
    const reach = 1.4 * Math.max(...domain.size)
    if (!(await this.elements.set(take, elements, time.first, reach))) this.laidOut = ''
    if (mine !== this.generation) return
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

  /** Mark one element, and see it through what hides it. */
  select(index: number | null) {
    this.picked = index
    this.elements.select(index)
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
      const points = new THREE.Points(geometry, pointMaterial(radius, !!packed.colour))
      place(points, packed)
      points.frustumCulled = false
      this.liquid.add(points)
    }
    this.render()
  }

  showMesh(packed: Packed, wire = false) {
    this.clearLiquid()
    if (packed.count) {
      const geometry = meshGeometry(packed)
      shade(geometry, packed)
      const material = packed.by ? shadedMaterial(!!packed.colour) : surfaceMaterial()
      material.wireframe = wire
      const mesh = new THREE.Mesh(geometry, material)
      place(mesh, packed)
      mesh.frustumCulled = false
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
  }

  /** What the graphics processor holds now; for tests. */
  memory(): { geometries: number; textures: number } {
    return { ...this.renderer.info.memory }
  }

  /** Where the ramp begins and ends, as shares of the shades. */
  setRange(low: number, high: number) {
    this.range = [low, high]
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
    return (this.controls?.target ?? new THREE.Vector3()).toArray().map((v) => +v.toFixed(5))
  }

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

  /** See the domain along an axis, from so far that nothing is foreshortened. */
  along(axis: 'x' | 'y' | 'z') {
    if (!this.shape) return
    this.upright()
    this.camera.fov = FLAT
    const { low, size } = this.shape.domain
    const centre = new THREE.Vector3(...low.map((l, i) => l + size[i] / 2))
    const away = new THREE.Vector3(
      +(axis === 'x'),
      +(axis === 'y'),
      +(axis === 'z') + (axis === 'y' ? 1e-3 : 0),
    )
    const reach = Math.hypot(...size) / 2
    this.camera.position.copy(centre).addScaledVector(away, (reach * 1.05) / Math.sin((FLAT * Math.PI) / 360))
    this.aim(centre)
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
    this.renderer.render(this.scene, this.camera)
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
    this.renderer.dispose()
    this.renderer.forceContextLoss()
  }
}

/** Give a geometry its shades or colours; materials want both attributes. */
function shade(geometry: THREE.BufferGeometry, packed: Packed) {
  if (!packed.by) return
  const none = (width: number) => new Uint8Array(packed.count * width)
  geometry.setAttribute('shade', new THREE.BufferAttribute(packed.shade ?? none(1), 1, true))
  geometry.setAttribute('colour', new THREE.BufferAttribute(packed.colour ?? none(3), 3, true))
}
