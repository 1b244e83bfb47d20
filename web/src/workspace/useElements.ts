import { ref, type Ref } from 'vue'

import type { Schemas } from '../api/client'
import { label } from '../shell/words'
import type { SceneDocument } from './useTake'

/** Which element is picked, and putting elements in and taking them out. */
export function useElements(
  scene: Ref<SceneDocument | null>,
  keep: (scene: SceneDocument) => Promise<void>,
  onPick: () => void,
) {
  const element = ref<number | null>(null)

  function freeName(base: string): string {
    const names = new Set(scene.value!.elements.map((e: { name: string }) => e.name))
    for (let n = 1; ; n++) {
      const name = n === 1 ? base : `${base} ${n}`
      if (!names.has(name)) return name
    }
  }

  async function add(
    kind: string,
    name: string,
    what: SceneDocument,
    translation: number[],
    more: SceneDocument = {},
  ) {
    const own = kind === 'force' ? { effect: what } : { shape: what }
    const made: SceneDocument = { kind, name: freeName(name), ...own, ...more, pose: { translation } }
    const next = structuredClone(scene.value!)
    next.elements.push(made)
    await keep(next)
    const at = scene.value!.elements.findIndex((e: { name: string }) => e.name === made.name)
    if (at < 0) return // it was refused
    element.value = at
    onPick()
  }

  /** Put in what was made by hand. */
  async function put(made: SceneDocument) {
    const next = structuredClone(scene.value!)
    next.elements.push({ ...made, name: freeName(made.name) })
    await keep(next)
    const at = scene.value!.elements.length - 1
    if (at !== next.elements.length - 1) return // it was refused
    element.value = at
    onPick()
  }

  function middle(): number[] {
    const { low, size } = scene.value!.domain
    return low.map((l: number, i: number) => +(l + size[i] / 2).toFixed(4))
  }

  function addShape(kind: string, shape: string) {
    const grounded = shape === 'plane' || shape === 'tub'
    const at = grounded ? [middle()[0], scene.value!.domain.low[1], middle()[2]] : middle()
    const name = kind === 'collider' || kind === 'force' ? label(shape) : label(kind)
    void add(kind, name, { kind: shape }, at)
  }

  function addMesh(kind: string, name: string, facts: Schemas['MeshReply'], side?: string) {
    const shape = { kind: 'mesh', file: facts.file, unit: facts.unit, up: facts.up, animated: facts.animated }
    void add(kind, name, shape, [0, 0, 0], side ? { side } : {})
  }

  function remove() {
    const next = structuredClone(scene.value!)
    next.elements.splice(element.value!, 1)
    element.value = null
    void keep(next)
  }

  return { element, put, addShape, addMesh, remove }
}
