import * as THREE from 'three'

import type { Way } from '../viewport/handles'
import type { SceneDocument } from './useTake'

type Value = number | number[]
interface Key {
  time: number
  value: Value
  segment?: string
}
type Keyed = Value | { keys: Key[] }
const NEAR = 1e-6 // s, at which a key is the same
const tidy = (v: number) => +v.toFixed(5)

export const isCurve = (value: unknown): value is { keys: Key[] } =>
  typeof value === 'object' && value !== null && !Array.isArray(value) && 'keys' in value

interface Parts {
  translation: number[]
  rotation: number[]
  scale: number
}

/** Translation, turns about X, then Y, then Z in degrees, and even scale of a matrix. */
export function partsOf(matrix: THREE.Matrix4): Parts {
  const at = new THREE.Vector3()
  const turned = new THREE.Quaternion()
  const size = new THREE.Vector3()
  matrix.decompose(at, turned, size)
  const turn = new THREE.Euler().setFromQuaternion(turned, 'ZYX')
  return {
    translation: at.toArray(),
    rotation: [turn.x, turn.y, turn.z].map((a) => THREE.MathUtils.radToDeg(a)),
    scale: size.x,
  }
}

/** The same turn as near as may be to another one. */
const nearTo = (turn: number, other: number) => turn + 360 * Math.round((other - turn) / 360)

const WHICH: Record<Way, keyof Parts> = { translate: 'translation', rotate: 'rotation', scale: 'scale' }

/**
 * A pose after something was moved, turned or scaled from one matrix to another at a time.
 *
 * What has keys gets one at that time when recording; otherwise all of its keys go along, so that the way stays as
 * it is and lies elsewhere.
 */
export function moved(
  pose: SceneDocument,
  from: THREE.Matrix4,
  to: THREE.Matrix4,
  way: Way,
  time: number,
  recording: boolean,
): SceneDocument {
  const name = WHICH[way]
  const was = partsOf(from)[name]
  const is = partsOf(to)[name]
  const value = pose[name] as Keyed | undefined
  const next = { ...pose }
  const still = isCurve(value) ? value.keys[0].value : value
  if (Array.isArray(is) && Array.isArray(was)) {
    const near = Array.isArray(still) ? still : [0, 0, 0]
    const plain = name === 'rotation' ? is.map((v, i) => nearTo(v, near[i])) : is
    const by = is.map((v, i) => (name === 'rotation' ? nearTo(v - was[i], 0) : v - was[i]))
    next[name] = isCurve(value)
      ? recording
        ? withKey(value.keys, time, plain.map(tidy))
        : {
            keys: value.keys.map((k) => ({
              ...k,
              value: (k.value as number[]).map((v, i) => tidy(v + by[i])),
            })),
          }
      : recording
        ? withKey(
            [{ time: 0, value: (value as number[] | undefined) ?? was.map(tidy) }],
            time,
            plain.map(tidy),
          )
        : plain.map(tidy)
  } else {
    const factor = (is as number) / (was as number)
    next[name] = isCurve(value)
      ? recording
        ? withKey(value.keys, time, tidy(is as number))
        : { keys: value.keys.map((k) => ({ ...k, value: tidy((k.value as number) * factor) })) }
      : recording
        ? withKey([{ time: 0, value: tidy(was as number) }], time, tidy(is as number))
        : tidy(is as number)
  }
  return next
}

/** The same for something that goes along with what is turned or scaled: it moves about it as well. */
export function movedAlong(
  pose: SceneDocument,
  from: THREE.Matrix4,
  to: THREE.Matrix4,
  way: Way,
  time: number,
  recording: boolean,
): SceneDocument {
  const placed = moved(pose, from, to, 'translate', time, recording)
  return way === 'translate' ? placed : moved(placed, from, to, way, time, recording)
}

/** A still pose at a place of the scene, within that of something else if there is one; what has keys stays as it is. */
export function posed(
  pose: SceneDocument,
  place: THREE.Matrix4 | null,
  within: THREE.Matrix4 | null,
): SceneDocument {
  const moves = Object.values(pose).some((v) => isCurve(v as Keyed))
  if (!place || moves) return pose
  const own = within ? within.clone().invert().multiply(place) : place
  const { translation, rotation, scale } = partsOf(own)
  return { translation: translation.map(tidy), rotation: rotation.map(tidy), scale: tidy(scale) }
}

/** Keys with one at a time. */
export function withKey(keys: Key[], time: number, value: Value): { keys: Key[] } {
  const same = keys.find((k) => Math.abs(k.time - time) < NEAR)
  const others = keys.filter((k) => k !== same)
  return { keys: [...others, { ...same, time, value }].sort((a, b) => a.time - b.time) }
}
