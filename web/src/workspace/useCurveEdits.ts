import { computed, ref, type Ref } from 'vue'

import {
  curvesOf,
  numberOf,
  partName,
  slopesOf,
  valueOf,
  withKeys,
  withNumber,
  type CurveKey,
  type FoundCurve,
} from './curves'
import type { SceneDocument } from './useTake'

/** A line of the plot: one number of a curve. */
export interface Line {
  id: string
  curve: FoundCurve
  part: number
  name: string
  owner: string
  colour: string
}
/** A key of a line. */
export interface Dot {
  line: Line
  index: number
  key: CurveKey
  value: number
}
const AXES = ['#e58b6b', '#7fd6b5', '#d9b45e']
const OTHERS = ['#6fb7d8', '#b79ad0', '#c3ced1', '#e0a0b4']
const tidy = (v: number) => +v.toFixed(6)
/** Whether two are of the same place: what comes back from the server meanwhile is another object. */
const sameCurve = (a: FoundCurve, b: FoundCurve) => a.path.join('.') === b.path.join('.')

/** Curves of what is picked (or of all) as lines, and what is done to their keys; every deed is one edit. */
export function useCurveEdits(
  scene: Ref<SceneDocument>,
  picked: Ref<number[]>,
  frame: Ref<number>,
  keep: (scene: SceneDocument) => void,
) {
  const off = ref(new Set<string>())
  const chosen = ref(new Set<string>()) // keys, by line and place in it
  const fps = computed<number>(() => scene.value.time.fps)
  const now = computed(() => (frame.value - scene.value.time.first) / fps.value)

  const lines = computed<Line[]>(() => {
    let n = 0
    const elements = scene.value.elements as SceneDocument[]
    const shown = picked.value.length ? picked.value : elements.map((_, i) => i)
    const owners = [
      ...shown.map((i) => ({ owner: String(elements[i]?.name), path: ['elements', i], part: elements[i] })),
      ...(picked.value.length
        ? []
        : [
            { owner: 'liquid', path: ['liquid'], part: scene.value.liquid },
            { owner: 'camera', path: ['camera'], part: scene.value.camera },
          ]),
    ]
    return owners.flatMap(({ owner, path, part }) =>
      curvesOf(part, path).flatMap((curve) =>
        Array.from({ length: curve.width }, (_, i) => ({
          id: `${curve.path.join('.')} ${i}`,
          curve,
          part: i,
          name: partName(curve, i),
          owner,
          colour: curve.width > 1 ? AXES[i] : OTHERS[n++ % OTHERS.length],
        })),
      ),
    )
  })
  const seen = computed(() => lines.value.filter((l) => !off.value.has(l.id)))
  const dots = computed<Dot[]>(() =>
    seen.value.flatMap((line) =>
      line.curve.keys.map((key, index) => ({ line, index, key, value: numberOf(key.value, line.part) })),
    ),
  )
  const idOf = (dot: Dot) => `${dot.line.id}#${dot.index}`
  const chosenDots = computed(() => dots.value.filter((d) => chosen.value.has(idOf(d))))

  /** Change the keys of all curves that a function answers for; a new scene, which is not kept yet. */
  function changed(change: (curve: FoundCurve) => CurveKey[] | null): SceneDocument {
    let next = scene.value
    const done = new Set<string>()
    for (const { curve } of lines.value) {
      const id = curve.path.join('.')
      if (done.has(id)) continue
      done.add(id)
      const keys = change(curve)
      if (keys) next = withKeys(next, curve.path, keys)
    }
    return next
  }
  /** Places of the chosen keys in a curve, each with the numbers that are chosen of it. */
  function chosenIn(curve: FoundCurve): Map<number, number[]> {
    const found = new Map<number, number[]>()
    for (const { line, index } of chosenDots.value)
      if (line.curve === curve) found.set(index, [...(found.get(index) ?? []), line.part])
    return found
  }

  /** The chosen keys moved by a time (s) and a value; a key goes with all of its numbers in time. */
  function moved(byTime: number, byValue: number): SceneDocument {
    return changed((curve) => {
      const which = chosenIn(curve)
      if (!which.size) return null
      return curve.keys.map((key, i) => {
        const parts = which.get(i)
        if (!parts) return key
        const value = parts.reduce(
          (v, part) => withNumber(v, part, tidy(numberOf(key.value, part) + byValue)),
          key.value,
        )
        return { ...key, time: tidy(Math.max(key.time + byTime, 0)), value }
      })
    })
  }

  /** Key times of the chosen keys stretched about the playhead. */
  function stretched(factor: number): SceneDocument {
    return changed((curve) => {
      const which = chosenIn(curve)
      if (!which.size) return null
      return curve.keys.map((key, i) =>
        which.has(i) ? { ...key, time: tidy(Math.max(now.value + (key.time - now.value) * factor, 0)) } : key,
      )
    })
  }

  /** The chosen keys given how they go on. */
  const segmented = (segment: CurveKey['segment']) =>
    changed((curve) => {
      const which = chosenIn(curve)
      return which.size ? curve.keys.map((key, i) => (which.has(i) ? { ...key, segment } : key)) : null
    })

  /** A slope (in a second) given to one number of a key, or left to be found. */
  function sloped(dot: Dot, slope: number | null): SceneDocument {
    return changed((curve) => {
      if (!sameCurve(curve, dot.line.curve)) return null
      return curve.keys.map((key, i) => {
        if (i !== dot.index) return key
        if (slope === null) return { ...key, slope: null }
        const parts = Array.from({ length: curve.width }, (_, part) => slopesOf(curve, part)[i])
        const was = key.slope ?? (curve.width > 1 ? parts : parts[0])
        return { ...key, slope: withNumber(was, dot.line.part, tidy(slope)) }
      })
    })
  }

  /** The chosen keys put at a time (s), or one number of them at a value. */
  const placed = (time: number | null, value: number | null) =>
    changed((curve) => {
      const which = chosenIn(curve)
      if (!which.size) return null
      return curve.keys.map((key, i) => {
        const parts = which.get(i)
        if (!parts) return key
        const given =
          value === null ? key.value : parts.reduce((v, part) => withNumber(v, part, value), key.value)
        return { ...key, time: time === null ? key.time : tidy(Math.max(time, 0)), value: given }
      })
    })

  /** A key put into a line at a time, where the curve is anyway. */
  function added(line: Line, time: number): SceneDocument {
    return changed((curve) => {
      if (!sameCurve(curve, line.curve)) return null
      const parts = Array.from({ length: curve.width }, (_, part) => tidy(valueOf(curve, part, time)))
      const key: CurveKey = { time: tidy(time), value: curve.width > 1 ? parts : parts[0] }
      return [...curve.keys, key]
    })
  }

  const without = () =>
    changed((curve) => {
      const which = chosenIn(curve)
      return which.size ? curve.keys.filter((_, i) => !which.has(i)) : null
    })

  /** Chosen keys held, by their curves, with times from the first of them. */
  let held: { path: string; keys: CurveKey[] }[] = []
  function copy() {
    const first = Math.min(...chosenDots.value.map((d) => d.key.time))
    held = []
    changed((curve) => {
      const which = chosenIn(curve)
      const keys = curve.keys.filter((_, i) => which.has(i)).map((k) => ({ ...k, time: k.time - first }))
      if (keys.length) held.push({ path: curve.path.join('.'), keys })
      return null
    })
  }
  /** What is held put in at the playhead, into the same curves. */
  const pasted = () =>
    changed((curve) => {
      const own = held.find((h) => h.path === curve.path.join('.'))
      return own ? [...curve.keys, ...own.keys.map((k) => ({ ...k, time: tidy(k.time + now.value) }))] : null
    })

  function use(next: SceneDocument) {
    if (next === scene.value) return
    keep(next)
  }
  return {
    lines,
    seen,
    off,
    dots,
    chosen,
    chosenDots,
    idOf,
    fps,
    now,
    moved,
    stretched,
    segmented,
    sloped,
    placed,
    added,
    without,
    copy,
    pasted,
    use,
  }
}
