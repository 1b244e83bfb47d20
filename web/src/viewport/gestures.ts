import * as THREE from 'three'

import { nice } from './ruler'

/* eslint-disable @typescript-eslint/no-explicit-any -- a scene is described by its schema, not by types */
export type Element = Record<string, any>

/** What lies under the pointer: where, facing which way, of which element if of any. */
export interface Spot {
  point: THREE.Vector3
  normal: THREE.Vector3
  index: number | null
  /** which point of the element it is, if it is one with a name */
  called?: string
}

/** What gestures must know of the scene. */
export interface Ground {
  /** m/s2 of shot time, downwards */
  gravity: number
  /** m, a voxel of the quality that is looked at */
  dx: number
  /** shot seconds of the longest substep that the settings ask for, were nothing to move */
  frameSeconds: number
  substeps: number
  /** m, the domain's longest edge */
  reach: number
}

/** Something that is placed by a press, a drag and, for some, a second press. */
export interface Gesture {
  /** what it puts in, as it is now; nothing before the first press */
  made(): Element | null
  press(spot: Spot, ray: THREE.Ray): 'goes on' | 'done'
  drag(ray: THREE.Ray, view: THREE.Vector3, spot: () => Spot | null): void
  release(): 'goes on' | 'done'
  /** a number that was typed takes the place of what the drag gives */
  typed(value: number): void
  says(): string[]
}

const UP = new THREE.Vector3(0, 1, 0)
export const tidy = (v: number) => +v.toFixed(5)
export const triple = (v: THREE.Vector3) => [tidy(v.x), tidy(v.y), tidy(v.z)]
const metres = (v: number) => `${+v.toPrecision(3)} m`

/** Where a ray comes nearest to a line through a point. */
export function alongLine(ray: THREE.Ray, from: THREE.Vector3, way: THREE.Vector3): number {
  const w = from.clone().sub(ray.origin)
  const b = way.dot(ray.direction)
  const across = 1 - b * b
  if (across < 1e-6) return 0
  return (b * w.dot(ray.direction) - w.dot(way)) / across
}

/** Turns, in degrees about X, then Y, then Z, that bring the element's own Y to a direction, its X to another if given. */
export function turnTo(way: THREE.Vector3, along?: THREE.Vector3): number[] {
  const whole = new THREE.Quaternion().setFromUnitVectors(UP, way)
  if (along) {
    const basis = new THREE.Matrix4().makeBasis(along, way, along.clone().cross(way))
    whole.setFromRotationMatrix(basis)
  }
  const turn = new THREE.Euler().setFromQuaternion(whole, 'ZYX')
  return [turn.x, turn.y, turn.z].map((a) => tidy(THREE.MathUtils.radToDeg(a)))
}

/** A drop that is lifted from what lies beneath: how long and how fast it falls. */
export class Drop implements Gesture {
  private base: THREE.Vector3 | null = null
  private height = 0
  private radius: number
  constructor(private ground: Ground) {
    this.radius = nice(ground.reach / 12)
    this.height = 3 * this.radius
  }
  press(spot: Spot): 'goes on' {
    this.base = spot.point.clone()
    return 'goes on'
  }
  drag(ray: THREE.Ray) {
    this.height = Math.max(alongLine(ray, this.base!, UP), this.radius)
  }
  typed(value: number) {
    this.height = Math.max(value + this.radius, this.radius)
  }
  release(): 'done' {
    return 'done'
  }
  made(): Element | null {
    if (!this.base) return null
    const at = this.base.clone().addScaledVector(UP, this.height)
    return {
      kind: 'fill',
      name: 'Drop',
      shape: { kind: 'sphere', radius: this.radius },
      pose: { translation: triple(at) },
    }
  }
  says(): string[] {
    const { gravity, dx, frameSeconds, substeps } = this.ground
    const fall = this.height - this.radius
    const time = Math.sqrt((2 * fall) / gravity)
    const speed = gravity * time
    const voxels = (speed * frameSeconds) / substeps / dx
    return [
      `${metres(fall)} above`,
      `falls ${time.toFixed(2)} s, frame +${Math.ceil(time / frameSeconds)}`,
      `meets it at ${speed.toFixed(2)} m/s`,
      voxels > 8
        ? `${voxels.toFixed(0)} voxels a substep at least: too fast to be sharp`
        : `${voxels.toFixed(1)} voxels in the longest substep`,
    ]
  }
}

const SLOPING = 0.5 // of a ramp's length that it is wide, and at first high
/** A ramp, dragged from its foot to its far end, then pulled up there. */
export class Ramp implements Gesture {
  private foot: THREE.Vector3 | null = null
  private end = new THREE.Vector3()
  private height = 0
  private pulling = false
  constructor(private ground: Ground) {}
  press(spot: Spot): 'goes on' | 'done' {
    if (this.pulling) return 'done'
    this.foot = spot.point.clone()
    this.end.copy(this.foot)
    return 'goes on'
  }
  private get along(): THREE.Vector3 {
    const way = this.end.clone().sub(this.foot!).setY(0)
    const least = 4 * this.ground.dx
    return way.length() < least ? new THREE.Vector3(least, 0, 0) : way
  }
  drag(ray: THREE.Ray) {
    if (this.pulling) {
      this.typed(alongLine(ray, this.foot!.clone().add(this.along), UP))
      return
    }
    const plane = new THREE.Plane().setFromNormalAndCoplanarPoint(UP, this.foot!)
    ray.intersectPlane(plane, this.end)
    this.height = 0.5 * SLOPING * this.along.length()
  }
  typed(value: number) {
    if (this.pulling) this.height = Math.max(value, 0)
    else this.end.copy(this.foot!).add(this.along.setLength(Math.max(value, 4 * this.ground.dx)))
  }
  release(): 'goes on' | 'done' {
    if (this.pulling) return 'done'
    this.pulling = true
    return 'goes on'
  }
  made(): Element | null {
    if (!this.foot) return null
    const across = this.along
    const up = across.clone().setY(this.height)
    const thick = Math.max(0.06 * up.length(), 2 * this.ground.dx)
    // its own X goes up the slope and its own Y out of it; its upper face begins at the foot
    const x = up.clone().normalize()
    const z = across.clone().normalize().cross(UP)
    const y = z.clone().cross(x)
    const turn = new THREE.Euler().setFromRotationMatrix(new THREE.Matrix4().makeBasis(x, y, z), 'ZYX')
    const middle = this.foot
      .clone()
      .addScaledVector(up, 0.5)
      .addScaledVector(y, -thick / 2)
    return {
      kind: 'collider',
      name: 'Ramp',
      shape: { kind: 'box', size: [up.length(), thick, SLOPING * up.length()].map(tidy) },
      pose: {
        translation: triple(middle),
        rotation: [turn.x, turn.y, turn.z].map((a) => tidy(THREE.MathUtils.radToDeg(a))),
      },
    }
  }
  says(): string[] {
    if (!this.foot) return []
    const length = this.along.length()
    const slope = THREE.MathUtils.radToDeg(Math.atan2(this.height, length))
    const told = [`${metres(length)} long`]
    if (!this.pulling) return told
    // without friction, from rest at its upper end (energy)
    const speed = Math.sqrt(2 * this.ground.gravity * this.height)
    return [
      ...told,
      `${metres(this.height)} high, ${slope.toFixed(0)}°`,
      `at its foot up to ${speed.toFixed(2)} m/s`,
    ]
  }
}

const OFF = 0.55 // voxels that a source stands off what it lies on: closer, its stream would cling to it
const ARROW = 0.1 // shot seconds that the arrow of a speed is long

interface Outline {
  radius: number
  sides: number[]
  along: number[]
}

/** A stream out of the surface that is pressed; the drag sets its speed. */
export class Aim implements Gesture {
  private spot: Spot | null = null
  private speed = 1
  private radius: number
  private sides: number[] = []
  private along: THREE.Vector3 | undefined
  constructor(private ground: Ground) {
    this.radius = Math.max(nice(ground.reach / 40), 2 * ground.dx)
  }
  /** Take the outline of an opening: a rectangle's sides, of anything else its area. */
  takes(opening: Outline) {
    this.radius = opening.radius
    this.sides = opening.sides
    this.along = opening.sides.length ? new THREE.Vector3().fromArray(opening.along) : undefined
  }
  press(spot: Spot): 'goes on' {
    this.spot = spot
    return 'goes on'
  }
  drag(ray: THREE.Ray, view: THREE.Vector3) {
    const { point } = this.spot!
    const plane = new THREE.Plane().setFromNormalAndCoplanarPoint(view, point)
    const there = ray.intersectPlane(plane, new THREE.Vector3())
    if (there) this.typed(there.distanceTo(point) / ARROW)
  }
  typed(value: number) {
    this.speed = Math.min(Math.max(value, 0.05), 50)
  }
  release(): 'done' {
    return 'done'
  }
  made(): Element | null {
    if (!this.spot) return null
    const { point, normal } = this.spot
    return {
      kind: 'inflow',
      name: 'Inflow',
      shape: this.along
        ? { kind: 'slot', width: tidy(this.sides[0]), depth: tidy(this.sides[1]) }
        : { kind: 'disc', radius: tidy(this.radius) },
      velocity: triple(normal.clone().multiplyScalar(+this.speed.toPrecision(3))),
      pose: {
        translation: triple(point.clone().addScaledVector(normal, OFF * this.ground.dx)),
        rotation: turnTo(normal, this.along),
      },
    }
  }
  says(): string[] {
    const across = this.along ? this.sides.map(metres).join(' by ') : `${metres(2 * this.radius)} across`
    return [`${this.speed.toFixed(2)} m/s, ${across}`]
  }
}

export type Solid = 'box' | 'sphere' | 'plane' | 'tub' | 'tube'

/** A shape whose base is dragged out on what lies there, and whose height is pulled up from it. */
export class Raise implements Gesture {
  private base: THREE.Vector3 | null = null
  private corner = new THREE.Vector3()
  private height: number
  private pulling = false
  constructor(
    private ground: Ground,
    private what: Solid,
    private kind: string,
    private name: string,
  ) {
    this.height = nice(ground.reach / 8)
  }
  press(spot: Spot): 'goes on' | 'done' {
    if (this.pulling) return 'done'
    this.base = spot.point.clone()
    this.corner.copy(this.base)
    return this.what === 'plane' ? 'done' : 'goes on'
  }
  drag(ray: THREE.Ray) {
    if (this.pulling) {
      this.typed(alongLine(ray, this.foot(), UP))
      return
    }
    const plane = new THREE.Plane().setFromNormalAndCoplanarPoint(UP, this.base!)
    ray.intersectPlane(plane, this.corner)
  }
  typed(value: number) {
    if (this.pulling) this.height = Math.max(value, this.ground.dx)
    else this.corner.copy(this.base!).add(new THREE.Vector3(value, 0, value))
  }
  release(): 'goes on' | 'done' {
    if (this.what === 'sphere' || this.pulling) return 'done'
    this.pulling = true
    return 'goes on'
  }
  private foot(): THREE.Vector3 {
    return this.what === 'box' ? this.base!.clone().add(this.corner).multiplyScalar(0.5) : this.base!.clone()
  }
  private get radius(): number {
    const flat = this.corner.clone().sub(this.base!)
    return tidy(Math.max(Math.hypot(flat.x, flat.z), 1.5 * this.ground.dx))
  }
  made(): Element | null {
    if (!this.base) return null
    const foot = this.foot()
    const least = 2 * this.ground.dx
    const height = tidy(this.height)
    const { radius } = this
    const wall = tidy(Math.min(Math.max(0.08 * radius, 2 * this.ground.dx), 0.45 * Math.min(radius, height)))
    const shapes: Record<Solid, Element> = {
      box: {
        size: [
          tidy(Math.max(Math.abs(this.corner.x - this.base.x), least)),
          height,
          tidy(Math.max(Math.abs(this.corner.z - this.base.z), least)),
        ],
      },
      sphere: { radius },
      plane: {},
      tub: { radius, height, wall },
      tube: { radius, height, wall },
    }
    if (this.what === 'box') foot.y += height / 2
    if (this.what === 'sphere') foot.y += radius
    return {
      kind: this.kind,
      name: this.name,
      shape: { kind: this.what, ...shapes[this.what] },
      pose: { translation: triple(foot) },
    }
  }
  says(): string[] {
    const made = this.made()
    if (!made) return []
    const { dx } = this.ground
    const { size, radius, height, wall } = made.shape
    if (this.what === 'plane') return [`ground at ${metres(this.base!.y)}`]
    const told = size
      ? [`${metres(size[0])} × ${metres(size[2])}`, ...(this.pulling ? [`${metres(size[1])} high`] : [])]
      : [`${metres(radius)} radius`, ...(this.pulling ? [`${metres(height)} high`] : [])]
    if (wall && wall < 1.5 * dx) told.push(`its wall is ${(wall / dx).toFixed(1)} voxels`)
    return told
  }
}
