import * as THREE from 'three'

import type { Gesture, Spot } from './gestures'

const metres = (v: number) => (v < 0.1 ? `${+(v * 1000).toPrecision(3)} mm` : `${+v.toPrecision(4)} m`)
const MOST = 3 // points: two for a distance, the third for an angle

/** What lies between points that are pressed: distance, height, an angle; and the volume of what the first lies on. */
export class Measure implements Gesture {
  points: THREE.Vector3[] = []
  private on: number | null = null
  private loose = false

  constructor(
    private shown: (points: THREE.Vector3[]) => void,
    private litres: (index: number) => string,
  ) {}

  press(spot: Spot): 'goes on' {
    if (this.points.length > MOST - 1 && !this.loose) this.points = []
    if (!this.points.length) this.on = spot.index
    if (this.loose) this.points.pop()
    this.points.push(spot.point.clone())
    this.loose = false
    this.shown(this.points)
    return 'goes on'
  }
  drag(_ray: THREE.Ray, _view: THREE.Vector3, spot: () => Spot | null) {
    const there = spot()?.point
    if (!there || !this.points.length) return
    if (this.loose) this.points.pop()
    this.loose = this.points.length < MOST
    if (this.loose) this.points.push(there.clone())
    this.shown(this.points)
  }
  typed() {}
  release(): 'goes on' {
    return 'goes on'
  }
  made() {
    return null
  }
  says(): string[] {
    const [a, b, c] = this.points
    const told = this.on === null ? '' : this.litres(this.on)
    if (!b) return [`height ${metres(a?.y ?? 0)}`, ...(told ? [told] : [])]
    const way = b.clone().sub(a)
    const lines = [
      metres(way.length()),
      `level ${metres(Math.hypot(way.x, way.z))}, height ${way.y < 0 ? '−' : '+'}${metres(Math.abs(way.y))}`,
    ]
    if (!c) return [...lines, ...(told ? [told] : []), 'press again for an angle']
    const angle = a.clone().sub(b).angleTo(c.clone().sub(b))
    return [
      `${THREE.MathUtils.radToDeg(angle).toFixed(1)}° at the middle one`,
      `${metres(way.length())}, then ${metres(c.distanceTo(b))}`,
    ]
  }
}
