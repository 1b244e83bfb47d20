import * as THREE from 'three'

import type { Schemas } from '../api/client'
import { alongLine, type Gesture, type Ground, type Spot } from '../viewport/gestures'

type Ask = (seed: number[], level: number | null, told: (room: Schemas['Room']) => void) => Promise<void>
const UP = new THREE.Vector3(0, 1, 0)

/** The room inside of what is pressed; dragging up or down sets the level. */
export class FillRoom implements Gesture {
  seed: number[] | null = null
  level: number | null = null
  private from = new THREE.Vector3()
  private begun: number | null = null
  private room: Schemas['Room'] | null = null

  constructor(
    private ask: Ask,
    private ground: Ground,
  ) {}

  press(spot: Spot): 'goes on' {
    this.from.copy(spot.point)
    this.seed = spot.point
      .clone()
      .addScaledVector(spot.normal, 1.2 * this.ground.dx)
      .toArray()
    void this.ask(this.seed, null, (room) => this.tell(room))
    return 'goes on'
  }

  private tell(room: Schemas['Room']) {
    this.room = room
    if (this.level === null) this.level = this.begun = room.level
  }

  drag(ray: THREE.Ray) {
    if (this.begun === null || !this.seed) return
    this.at(this.begun + alongLine(ray, this.from, UP))
  }

  typed(value: number) {
    if (this.room) this.at(this.room.bottom + value)
  }

  private at(level: number) {
    this.level = Math.max(level, (this.room?.bottom ?? 0) + this.ground.dx)
    void this.ask(this.seed!, this.level, (room) => this.tell(room))
  }

  release(): 'done' {
    return 'done'
  }

  made() {
    return null
  }

  says(): string[] {
    const room = this.room
    if (!room) return ['finding the room…']
    const over = room.runs_over !== null && room.level > room.runs_over + 1e-6
    return [
      `${+room.litres.toPrecision(3)} l, ${+room.kilograms.toPrecision(3)} kg`,
      `${+room.height.toPrecision(3)} m deep`,
      `${Math.round(room.particles / 100) / 10} k particles`,
      ...(room.open
        ? [room.leak ? 'it leaks there' : `it runs out by ${room.open}: press inside of a vessel`]
        : []),
      ...(over
        ? ['it runs over']
        : room.runs_over !== null
          ? [`runs over at ${+(room.runs_over - room.bottom).toPrecision(3)} m`]
          : []),
    ]
  }
}
