import { ref, type Ref } from 'vue'

import type { Schemas } from '../api/client'
import { label } from '../shell/words'
import type { SceneDocument } from './useTake'

const HELD = 'zinc-held'

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
      const name = n === 1 ? base : `${base.replace(/ \d+$/, '')} ${n}`
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

  /** Call an element otherwise, also where others name it. */
  function rename(index: number, name: string) {
    const was = scene.value!.elements[index].name
    const wanted = name.trim()
    if (!wanted || wanted === was) return
    const next = structuredClone(scene.value!)
    next.elements[index].name = freeName(wanted)
    for (const e of next.elements) if (e.attached === was) e.attached = next.elements[index].name
    void keep(next)
  }

  /** Hold a copy of what is picked, for this take or another. */
  function copy(take: number) {
    if (element.value === null) return
    localStorage.setItem(HELD, JSON.stringify({ take, element: scene.value!.elements[element.value] }))
  }

  /** Put in what is held; false where it is a mesh that another take has. */
  function paste(take: number): boolean {
    const held = JSON.parse(localStorage.getItem(HELD) ?? 'null') as {
      take: number
      element: SceneDocument
    } | null
    if (!held) return true
    const own = { ...held.element }
    if (held.take !== take && own.shape?.kind === 'mesh') return false
    if (!scene.value!.elements.some((e: { name: string }) => e.name === own.attached)) own.attached = null
    void put(own)
    return true
  }

  function remove() {
    const next = structuredClone(scene.value!)
    next.elements.splice(element.value!, 1)
    element.value = null
    void keep(next)
  }

  return { element, put, addShape, addMesh, rename, copy, paste, remove }
}
