import * as THREE from 'three'

import {
  alongLine,
  tidy,
  triple,
  turnTo,
  type Element,
  type Gesture,
  type Ground,
  type Spot,
} from './gestures'
import { nice } from './ruler'

export type Pushing = 'wind' | 'vortex' | 'attraction'
const ARROW = 0.1 // shot seconds that the arrow of a wind is long
const STRONG = 20 // m/s2 that a pull over the zone's radius stands for
const UP = new THREE.Vector3(0, 1, 0)

/** Air that blows along an arrow: a press says from where, the drag whither and how fast. */
export class Blow implements Gesture {
  private from: THREE.Vector3 | null = null
  private velocity = new THREE.Vector3(3, 0, 0)

  press(spot: Spot): 'goes on' {
    this.from = spot.point.clone()
    return 'goes on'
  }
  drag(ray: THREE.Ray) {
    const level = new THREE.Plane().setFromNormalAndCoplanarPoint(UP, this.from!)
    const there = ray.intersectPlane(level, new THREE.Vector3())
    if (there && there.distanceTo(this.from!) > 1e-4)
      this.velocity
        .copy(there)
        .sub(this.from!)
        .multiplyScalar(1 / ARROW)
  }
  typed(value: number) {
    this.velocity.setLength(Math.max(value, 0.01))
  }
  release(): 'done' {
    return 'done'
  }
  made(): Element | null {
    if (!this.from) return null
    return {
      kind: 'force',
      name: 'Wind',
      effect: { kind: 'wind', velocity: this.velocity.toArray().map((v) => +v.toPrecision(3)) },
      pose: { translation: triple(this.from) },
    }
  }
  says(): string[] {
    return [`${this.velocity.length().toFixed(1)} m/s`]
  }
}

/** A force about a point: the drag says how far it reaches, a pull up or down how strong it is. */
export class About implements Gesture {
  private at: THREE.Vector3 | null = null
  private way = UP.clone()
  private radius: number
  private strength: number
  private pulling = false

  constructor(
    private ground: Ground,
    private what: 'vortex' | 'attraction',
  ) {
    this.radius = nice(ground.reach / 6)
    this.strength = what === 'vortex' ? 3 : 5
  }
  press(spot: Spot): 'goes on' | 'done' {
    if (this.pulling) return 'done'
    this.way.copy(this.what === 'vortex' ? spot.normal : UP)
    this.at = spot.point.clone()
    return 'goes on'
  }
  drag(ray: THREE.Ray, view: THREE.Vector3) {
    if (this.pulling) {
      this.typed((alongLine(ray, this.at!, UP) / this.radius) * STRONG)
      return
    }
    const plane = new THREE.Plane().setFromNormalAndCoplanarPoint(view, this.at!)
    const there = ray.intersectPlane(plane, new THREE.Vector3())
    if (there && there.distanceTo(this.at!) > 2 * this.ground.dx) this.radius = there.distanceTo(this.at!)
  }
  typed(value: number) {
    if (this.pulling) this.strength = +value.toPrecision(3)
    else this.radius = Math.max(value, 2 * this.ground.dx)
  }
  release(): 'goes on' | 'done' {
    if (this.pulling) return 'done'
    this.pulling = true
    return 'goes on'
  }
  made(): Element | null {
    if (!this.at) return null
    const radius = tidy(this.radius)
    return {
      kind: 'force',
      name: this.what === 'vortex' ? 'Vortex' : 'Attraction',
      effect: { kind: this.what, strength: this.strength },
      zone: { kind: 'sphere', radius },
      softness: tidy(radius / 3),
      pose: { translation: triple(this.at), rotation: turnTo(this.way) },
    }
  }
  says(): string[] {
    const reach = `${+this.radius.toPrecision(3)} m about it`
    return this.pulling ? [reach, `${this.strength.toFixed(1)} m/s², pull up or down`] : [reach]
  }
}
