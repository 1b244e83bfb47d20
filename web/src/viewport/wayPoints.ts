import * as THREE from 'three'

import type { Gesture } from './gestures'

const NEAR = 9 // pixels within which a key's point is taken hold of

/** A key of a way that moves: when (shot seconds), and where in the scene. */
export interface WayPoint {
  time: number
  frame: number
  at: THREE.Vector3
}

/** A key's point that is pulled to another place; its time stays. */
export class PullKey implements Gesture {
  readonly to: THREE.Vector3

  constructor(
    readonly element: number,
    readonly key: WayPoint,
    private shown: (to: THREE.Vector3) => void,
  ) {
    this.to = key.at.clone()
  }
  get pulled(): boolean {
    return this.to.distanceTo(this.key.at) > 1e-6
  }
  press(): 'goes on' {
    return 'goes on'
  }
  drag(ray: THREE.Ray, view: THREE.Vector3) {
    const plane = new THREE.Plane().setFromNormalAndCoplanarPoint(view, this.key.at)
    const there = ray.intersectPlane(plane, new THREE.Vector3())
    if (there) this.to.copy(there)
    this.shown(this.to)
  }
  /** Higher by so many metres. */
  typed(value: number) {
    this.to.copy(this.key.at).setY(this.key.at.y + value)
    this.shown(this.to)
  }
  release(): 'done' {
    return 'done'
  }
  made() {
    return null
  }
  says(): string[] {
    const by = this.to.clone().sub(this.key.at)
    const told = (['x', 'y', 'z'] as const).filter((k) => Math.abs(by[k]) > 1e-6)
    return [
      `key at frame ${this.key.frame}`,
      ...told.map((k) => `${k} ${by[k] > 0 ? '+' : '−'}${Math.abs(by[k]).toFixed(3)} m`),
    ]
  }
}

/** The key's point under the pointer, if there is one. */
export function keyUnder(
  keys: WayPoint[],
  at: { x: number; y: number },
  onScreen: (point: THREE.Vector3) => [number, number],
): WayPoint | null {
  for (const key of keys) {
    const [x, y] = onScreen(key.at)
    if (Math.hypot(x - at.x, y - at.y) < NEAR) return key
  }
  return null
}
