import type { SceneDocument } from './useTake'

/* eslint-disable @typescript-eslint/no-explicit-any -- a scene is described by its schema, not by types */
const NEAR = 1e-4 // s, within which keys are at the same moment

interface Curve {
  keys: { time: number; value: unknown; segment?: string }[]
}

/** All curves of an element: of its pose, and of every other setting that has keys. */
function curvesIn(node: any, found: { holder: any; name: string; curve: Curve }[] = []) {
  for (const [name, value] of Object.entries(node ?? {})) {
    if (Array.isArray((value as Curve | null)?.keys))
      found.push({ holder: node, name, curve: value as Curve })
    else if (value && typeof value === 'object' && !Array.isArray(value)) curvesIn(value, found)
  }
  return found
}

/** Moments (shot seconds) at which elements have keys, in order, and the elements that have them. */
export function keyTimes(scene: SceneDocument): { time: number; elements: number[] }[] {
  const found: { time: number; elements: number[] }[] = []
  scene.elements.forEach((element: SceneDocument, index: number) => {
    for (const { curve } of curvesIn(element))
      for (const { time } of curve.keys) {
        const same = found.find((f) => Math.abs(f.time - time) < NEAR)
        if (!same) found.push({ time, elements: [index] })
        else if (!same.elements.includes(index)) same.elements.push(index)
      }
  })
  return found.sort((a, b) => a.time - b.time)
}

/** The scene with the keys of some elements at one moment moved to another, or taken out. */
export function withKeysAt(
  scene: SceneDocument,
  elements: number[],
  from: number,
  to: number | null,
): SceneDocument {
  const next = structuredClone(scene)
  for (const index of elements)
    for (const { holder, name, curve } of curvesIn(next.elements[index])) {
      const held = curve.keys.filter((k) => Math.abs(k.time - from) < NEAR)
      if (!held.length) continue
      const others = curve.keys.filter(
        (k) => !held.includes(k) && (to === null || Math.abs(k.time - to) >= NEAR),
      )
      const moved = to === null ? [] : held.map((k) => ({ ...k, time: +to.toFixed(6) }))
      const keys = [...others, ...moved].sort((a, b) => a.time - b.time)
      holder[name] = keys.length ? { ...curve, keys } : held[0].value // the last key leaves its value
    }
  return next
}

/** The first frame that changes when keys at a moment move to another: what lies before the keys beside it stays. */
export function firstChanged(scene: SceneDocument, elements: number[], from: number, to: number): number {
  const early = Math.min(from, to)
  const before = elements.flatMap((index) =>
    curvesIn(scene.elements[index])
      .filter(({ curve }) => curve.keys.some((k) => Math.abs(k.time - from) < NEAR))
      // a smooth segment also feels the key before the one it begins at
      .map(
        ({ curve }) =>
          curve.keys
            .map((k) => k.time)
            .filter((t) => t < early - NEAR)
            .at(-2) ?? 0,
      ),
  )
  return scene.time.first + Math.floor(Math.min(...before, early) * scene.time.fps)
}
