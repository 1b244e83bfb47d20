import type { SceneDocument } from './useTake'

/* eslint-disable @typescript-eslint/no-explicit-any -- a scene is described by its schema, not by types */
export interface CurveKey {
  time: number
  value: number | number[]
  segment?: 'cubic' | 'linear' | 'step'
  slope?: number | number[] | null
}
/** A curve of the scene: where it is, what it is called, its keys, and how many numbers each has. */
export interface FoundCurve {
  path: (string | number)[]
  name: string
  keys: CurveKey[]
  width: number
}
const PARTS = ['x', 'y', 'z']

/** All curves in a part of the scene. */
export function curvesOf(part: any, path: (string | number)[] = []): FoundCurve[] {
  if (!part || typeof part !== 'object') return []
  return Object.entries(part).flatMap(([name, value]: [string, any]) => {
    const at = [...path, Array.isArray(part) ? Number(name) : name]
    if (value && !Array.isArray(value) && Array.isArray(value.keys)) {
      const first = value.keys[0].value
      return [{ path: at, name, keys: value.keys, width: Array.isArray(first) ? first.length : 1 }]
    }
    return value && typeof value === 'object' ? curvesOf(value, at) : []
  })
}

/** What one line of a plot is called. */
export const partName = (curve: FoundCurve, part: number) =>
  `${curve.name}${curve.width > 1 ? ` ${PARTS[part]}` : ''}`.replaceAll('_', ' ')

export const numberOf = (value: number | number[], part: number) =>
  Array.isArray(value) ? value[part] : value

/** A value with one of its numbers changed. */
export const withNumber = (value: number | number[], part: number, n: number) =>
  Array.isArray(value) ? value.map((v, i) => (i === part ? n : v)) : n

/** Slopes at keys that make the curve monotone (Fritsch and Carlson 1980, as SciPy's PchipInterpolator has them). */
export function monotoneSlopes(times: number[], values: number[]): number[] {
  const n = times.length
  if (n < 2) return values.map(() => 0)
  const h = times.slice(1).map((t, i) => t - times[i])
  const m = h.map((step, i) => (values[i + 1] - values[i]) / step)
  if (n === 2) return [m[0], m[0]]
  const inner = m.slice(1).map((after, i) => {
    const before = m[i]
    if (before * after <= 0) return 0
    const [w1, w2] = [2 * h[i + 1] + h[i], h[i + 1] + 2 * h[i]]
    return (w1 + w2) / (w1 / before + w2 / after)
  })
  const end = (h0: number, h1: number, m0: number, m1: number) => {
    const d = ((2 * h0 + h1) * m0 - h0 * m1) / (h0 + h1)
    if (Math.sign(d) !== Math.sign(m0)) return 0
    return Math.sign(m0) !== Math.sign(m1) && Math.abs(d) > 3 * Math.abs(m0) ? 3 * m0 : d
  }
  return [end(h[0], h[1], m[0], m[1]), ...inner, end(h[n - 2], h[n - 3], m[n - 2], m[n - 3])]
}

/** Slopes of one number of a curve at its keys: those given, else found. */
export function slopesOf(curve: FoundCurve, part: number): number[] {
  const found = monotoneSlopes(
    curve.keys.map((k) => k.time),
    curve.keys.map((k) => numberOf(k.value, part)),
  )
  return curve.keys.map((k, i) => (k.slope == null ? found[i] : numberOf(k.slope, part)))
}

/** One number of a curve at a time, as the solver takes it. */
export function valueOf(curve: FoundCurve, part: number, time: number): number {
  const { keys } = curve
  const at = (i: number) => numberOf(keys[i].value, part)
  if (time <= keys[0].time) return at(0)
  const last = keys.length - 1
  if (time >= keys[last].time) return at(last)
  const i = keys.findIndex((k) => k.time > time) - 1
  const step = keys[i + 1].time - keys[i].time
  const s = (time - keys[i].time) / step
  const segment = keys[i].segment ?? 'cubic'
  if (segment === 'step') return at(i)
  if (segment === 'linear') return at(i) + s * (at(i + 1) - at(i))
  const slopes = slopesOf(curve, part)
  const [h00, h10] = [2 * s ** 3 - 3 * s ** 2 + 1, s ** 3 - 2 * s ** 2 + s]
  const [h01, h11] = [-2 * s ** 3 + 3 * s ** 2, s ** 3 - s ** 2]
  return h00 * at(i) + h10 * step * slopes[i] + h01 * at(i + 1) + h11 * step * slopes[i + 1]
}

/** The scene with the keys of a curve changed; keys come into order, of two at one time the later one stays. */
export function withKeys(scene: SceneDocument, path: (string | number)[], keys: CurveKey[]): SceneDocument {
  const next = structuredClone(scene)
  const holder = path.slice(0, -1).reduce((node: any, key) => node[key], next)
  const last = path.at(-1)!
  const ordered = [...keys].sort((a, b) => a.time - b.time)
  const kept = ordered.filter((k, i) => i === ordered.length - 1 || ordered[i + 1].time - k.time > 1e-5)
  holder[last] = kept.length ? { keys: kept } : holder[last].keys[0].value
  return next
}
