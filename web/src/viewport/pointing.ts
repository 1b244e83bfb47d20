import * as THREE from 'three'

import type { Elements } from './elements'
import type { Gesture, Spot } from './gestures'
import type { Handles } from './handles'

const STILL = 4 // pixels that a pointer may move and still press
const CATCH = 14 // pixels within which a point of an element is meant

/** What happens in the page when something is pointed at. */
export interface Heard {
  picked: (index: number | null, more: boolean) => void
  /** something under the pointer that a press takes hold of */
  grabbed: (ray: THREE.Raycaster, at: { x: number; y: number }) => Gesture | null
  hovered: (spot: Spot | null) => Spot | null
  sketched: () => void
  finished: (gesture: Gesture) => void
  left: () => void
  says: (lines: string[], x: number, y: number) => void
}

/**
 * The pointer over the viewport: it picks, or makes a gesture.
 *
 * While a gesture is on, the view does not turn under the first button; a number that is typed is its measure, Enter
 * ends it, Escape leaves it.
 */
export class Pointing {
  private ray = new THREE.Raycaster()
  private gesture: Gesture | null = null
  private going = false
  private pressed: { x: number; y: number } | null = null
  private typed = ''
  private at = { x: 0, y: 0 }

  constructor(
    private canvas: HTMLCanvasElement,
    private camera: THREE.Camera,
    private elements: Elements,
    private handles: Handles,
    private floor: () => number,
    private heard: Heard,
  ) {
    canvas.addEventListener('pointerdown', this.onDown, true)
    canvas.addEventListener('pointermove', this.onMove)
    canvas.addEventListener('pointerup', this.onUp)
    addEventListener('keydown', this.onKey, true)
  }

  /** Begin a gesture at the next press; nothing picks again. */
  use(gesture: Gesture | null) {
    this.gesture = gesture
    this.going = false
    this.pressed = null // to let go after Enter or Escape is the end of what was done, and picks nothing
    this.typed = ''
    this.canvas.style.cursor = gesture ? 'crosshair' : ''
    if (!gesture) this.heard.says([], 0, 0)
  }

  get busy(): boolean {
    return this.gesture !== null
  }

  private aim(event: PointerEvent) {
    const box = this.canvas.getBoundingClientRect()
    this.at = { x: event.clientX - box.left, y: event.clientY - box.top }
    const place = new THREE.Vector2((this.at.x / box.width) * 2 - 1, 1 - (this.at.y / box.height) * 2)
    this.ray.setFromCamera(place, this.camera)
  }

  /** Where something that is dragged would lie: a point of another element that is near, or what is under the pointer. */
  onto(event: PointerEvent, but: number[], onScreen: (p: THREE.Vector3) => [number, number]): Spot | null {
    this.aim(event)
    const near = this.elements
      .points(but)
      .map((one) => {
        const [x, y] = onScreen(one.point)
        return { one, off: Math.hypot(x - this.at.x, y - this.at.y) }
      })
      .sort((a, b) => a.off - b.off)[0]
    if (near && near.off < CATCH) return near.one
    return this.spot(but)
  }

  /** What lies under the pointer: something solid (but for some), else the floor. */
  private spot(but: number[] = []): Spot | null {
    const hit = this.elements.hit(this.ray, true, but)
    if (hit) return hit
    const plane = new THREE.Plane(new THREE.Vector3(0, 1, 0), -this.floor())
    const point = this.ray.ray.intersectPlane(plane, new THREE.Vector3())
    return point && { point, normal: new THREE.Vector3(0, 1, 0), index: null }
  }

  private onDown = (event: PointerEvent) => {
    if (event.button !== 0) return
    this.aim(event)
    this.pressed = { x: event.clientX, y: event.clientY }
    const grabbed = this.gesture ? null : this.heard.grabbed(this.ray, this.at)
    if (grabbed) this.gesture = grabbed
    if (!this.gesture) return
    event.stopImmediatePropagation()
    this.canvas.setPointerCapture(event.pointerId)
    const found = grabbed ? this.spot() : this.heard.hovered(this.spot())
    if (!found && !this.going && !grabbed) return
    this.typed = ''
    const next = this.gesture.press(found!, this.ray.ray)
    this.going = true
    this.tell()
    if (next === 'done') this.finish()
  }

  private onMove = (event: PointerEvent) => {
    this.aim(event)
    if (!this.gesture) return
    if (!this.going) {
      this.heard.hovered(this.spot())
      return
    }
    if (this.typed) return
    const view = this.camera.getWorldDirection(new THREE.Vector3())
    this.gesture.drag(this.ray.ray, view, () => this.spot())
    this.tell()
  }

  private onUp = (event: PointerEvent) => {
    if (event.button !== 0 || !this.pressed) return
    const moved = Math.hypot(event.clientX - this.pressed.x, event.clientY - this.pressed.y)
    this.pressed = null
    if (this.gesture) {
      if (this.going && this.gesture.release() === 'done') this.finish()
      return
    }
    if (moved > STILL || this.handles.hot) return
    this.aim(event)
    this.heard.picked(this.elements.hit(this.ray)?.index ?? null, event.shiftKey)
  }

  private onKey = (event: KeyboardEvent) => {
    if (!this.gesture) return
    if (event.key === 'Escape') {
      this.use(null)
      this.heard.left()
    } else if (this.going && /^[\d.,-]$/.test(event.key)) {
      this.typed += event.key.replace(',', '.')
      this.take()
    } else if (this.going && event.key === 'Backspace') {
      this.typed = this.typed.slice(0, -1)
      this.take()
    } else if (this.going && event.key === 'Enter') {
      if (this.gesture.release() === 'done') this.finish()
      this.typed = ''
    } else return
    event.preventDefault()
    event.stopImmediatePropagation()
  }

  private take() {
    const given = Number(this.typed)
    if (this.typed && Number.isFinite(given)) this.gesture!.typed(given)
    this.tell()
  }

  /** Say and draw anew what a gesture has come to know. */
  retell() {
    if (this.gesture && this.going) this.tell()
  }

  private tell() {
    const typed = this.typed ? [`typed ${this.typed}`] : []
    this.heard.says([...this.gesture!.says(), ...typed], this.at.x, this.at.y)
    this.heard.sketched()
  }

  private finish() {
    const done = this.gesture!
    this.use(null)
    this.heard.finished(done)
  }

  dispose() {
    this.canvas.removeEventListener('pointerdown', this.onDown, true)
    this.canvas.removeEventListener('pointermove', this.onMove)
    this.canvas.removeEventListener('pointerup', this.onUp)
    removeEventListener('keydown', this.onKey, true)
  }
}
