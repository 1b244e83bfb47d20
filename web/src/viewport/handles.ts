import * as THREE from 'three'
import { TransformControls } from 'three/examples/jsm/controls/TransformControls.js'

import type { Spot } from './gestures'
import { nice } from './ruler'

export type Way = 'translate' | 'rotate' | 'scale'
const AXES: Record<string, THREE.Vector3> = {
  X: new THREE.Vector3(1, 0, 0),
  Y: new THREE.Vector3(0, 1, 0),
  Z: new THREE.Vector3(0, 0, 1),
}
const TURN = 15 // degrees of a snapped turn
const TIMES = 0.1 // of a snapped scale

/** What is said while something is dragged, and what it was put on. */
export interface Moved {
  matrix: THREE.Matrix4
  says: string[]
  on: Spot | null
}

/**
 * Handles that move, turn and scale what is picked, along the scene's axes or its own.
 *
 * With Ctrl they go in steps; a number that is typed while dragging is taken for the way along the axis (m), the turn
 * (degrees) or the factor.
 */
export class Handles {
  private controls: TransformControls
  private proxy = new THREE.Object3D()
  private start = new THREE.Matrix4()
  private typed = ''
  dragging = false
  /** the point under the pointer that something dragged with Alt is put on */
  onto: (event: PointerEvent) => Spot | null = () => null
  onDrag: (moved: Moved) => void = () => {}
  onEnd: (matrix: THREE.Matrix4) => void = () => {}

  constructor(camera: THREE.Camera, canvas: HTMLElement, scene: THREE.Scene, changed: () => void) {
    this.controls = new TransformControls(camera, canvas)
    this.controls.setColors('#e58b6b', '#7fd6b5', '#d9b45e', '#f3fbf9')
    this.controls.setSize(0.72)
    scene.add(this.proxy, this.controls.getHelper())
    this.controls.addEventListener('change', changed)
    this.controls.addEventListener('mouseDown', () => this.begin())
    this.controls.addEventListener('objectChange', () => this.move())
    this.controls.addEventListener('mouseUp', () => this.end())
    addEventListener('pointermove', this.onPointer, true) // before the controls' own: what they ask for is of now
    addEventListener('keydown', this.onKey, true)
    addEventListener('keyup', this.onKey, true)
  }

  /** Whether a press now would take hold of a handle. */
  get hot(): boolean {
    return this.dragging || this.controls.axis !== null
  }

  get way(): Way {
    return this.controls.mode as Way
  }

  set way(way: Way) {
    this.controls.setMode(way)
    // scale is even: only the handle of all three
    for (const axis of ['X', 'Y', 'Z'] as const) this.controls[`show${axis}`] = way !== 'scale'
  }

  get own(): boolean {
    return this.controls.space === 'local'
  }

  set own(own: boolean) {
    this.controls.setSpace(own ? 'local' : 'world')
  }

  /** Take hold of what stands at a matrix; nothing lets go. */
  attach(matrix: THREE.Matrix4 | null, reach = 1) {
    if (this.dragging) return
    if (!matrix) {
      this.controls.detach()
      return
    }
    matrix.decompose(this.proxy.position, this.proxy.quaternion, this.proxy.scale)
    this.controls.attach(this.proxy)
    this.step = nice(reach / 50)
  }

  private step = 0.01

  private begin() {
    this.dragging = true
    this.typed = ''
    this.start.compose(this.proxy.position, this.proxy.quaternion, this.proxy.scale)
  }

  private onKey = (event: KeyboardEvent) => {
    const stepped = event.ctrlKey || event.metaKey
    this.controls.setTranslationSnap(stepped ? this.step : null)
    this.controls.setRotationSnap(stepped ? THREE.MathUtils.degToRad(TURN) : null)
    this.controls.setScaleSnap(stepped ? TIMES : null)
    if (!this.dragging || event.type !== 'keydown') return
    if (/^[\d.,-]$/.test(event.key)) this.typed += event.key.replace(',', '.')
    else if (event.key === 'Backspace') this.typed = this.typed.slice(0, -1)
    else if (event.key === 'Escape') this.leave()
    else return
    event.preventDefault()
    event.stopPropagation()
    this.move()
  }

  private onPointer = (event: PointerEvent) => {
    this.pointer = event
  }
  private pointer: PointerEvent | null = null

  /** Put it back where it was. */
  private leave() {
    this.typed = ''
    this.start.decompose(this.proxy.position, this.proxy.quaternion, this.proxy.scale)
    this.controls.reset()
    this.dragging = false
    this.onEnd(this.start.clone())
  }

  private move() {
    if (!this.dragging) return
    const given = Number(this.typed)
    let on: Spot | null = null
    if (this.typed && Number.isFinite(given)) this.put(given)
    else if (this.pointer?.altKey && this.way === 'translate') {
      on = this.onto(this.pointer)
      if (on) this.proxy.position.copy(on.point)
    }
    this.proxy.updateMatrix()
    this.onDrag({ matrix: this.proxy.matrix.clone(), says: this.says(), on })
  }

  /** Do exactly what was typed, from where the drag began. */
  private put(given: number) {
    const from = new THREE.Vector3()
    const turned = new THREE.Quaternion()
    const size = new THREE.Vector3()
    this.start.decompose(from, turned, size)
    const axis = AXES[(this.controls.axis ?? 'X').charAt(0)]?.clone() ?? new THREE.Vector3(0, 1, 0)
    const world = this.own ? axis.clone().applyQuaternion(turned) : axis
    if (this.way === 'translate') this.proxy.position.copy(from).addScaledVector(world, given)
    if (this.way === 'scale') this.proxy.scale.copy(size).multiplyScalar(Math.max(given, 1e-3))
    if (this.way === 'rotate') {
      const turn = new THREE.Quaternion().setFromAxisAngle(world, THREE.MathUtils.degToRad(given))
      this.proxy.quaternion.copy(turn.multiply(turned))
    }
  }

  private says(): string[] {
    const from = new THREE.Vector3()
    const turned = new THREE.Quaternion()
    const size = new THREE.Vector3()
    this.start.decompose(from, turned, size)
    const typed = this.typed ? [`typed ${this.typed}`] : []
    if (this.way === 'scale') return [`× ${(this.proxy.scale.x / size.x).toFixed(3)}`, ...typed]
    if (this.way === 'rotate') {
      const angle = THREE.MathUtils.radToDeg(this.proxy.quaternion.angleTo(turned))
      return [`${angle.toFixed(1)}°`, ...typed]
    }
    const way = this.proxy.position.clone().sub(from)
    const told = (['x', 'y', 'z'] as const).filter((k) => Math.abs(way[k]) > 1e-6)
    return [
      ...told.map((k) => `${k} ${way[k] > 0 ? '+' : '−'}${Math.abs(way[k]).toFixed(3)} m`),
      `height ${this.proxy.position.y.toFixed(3)} m`,
      ...typed,
    ]
  }

  private end() {
    if (!this.dragging) return
    this.dragging = false
    this.proxy.updateMatrix()
    this.onEnd(this.proxy.matrix.clone())
  }

  dispose() {
    removeEventListener('pointermove', this.onPointer, true)
    removeEventListener('keydown', this.onKey, true)
    removeEventListener('keyup', this.onKey, true)
    this.controls.detach()
    this.controls.dispose()
  }
}
