import type { Matrix4 } from 'three'
import { computed, ref, watch, type Ref } from 'vue'

import type { Schemas } from '../api/client'
import { label } from '../shell/words'
import { posed } from './poses'
import type { SceneDocument } from './useTake'

const HELD = 'zinc-held'

/** A mesh that is brought in: a file, or one of its parts, and what becomes of it. */
export interface Piece {
  name: string
  facts: Schemas['MeshReply']
  part: string
  role: 'outside' | 'inside' | 'shell' | 'ground' | 'fill' | 'none'
  shown: boolean
  delivered: boolean
}

/** Which elements are picked, and putting elements in, together, out of sight, and taking them out. */
export function useElements(
  scene: Ref<SceneDocument | null>,
  keep: (scene: SceneDocument) => Promise<void>,
  onPick: () => void,
  placeOf: (index: number) => Matrix4 | null,
) {
  /** the one whose settings are seen and that handles hold; `others` are picked with it */
  const element = ref<number | null>(null)
  const others = ref<number[]>([])
  const picked = computed(() =>
    element.value === null ? [] : [...others.value.filter((i) => i !== element.value), element.value],
  )
  watch(element, () => (others.value = []), { flush: 'sync' })

  /** Pick an element, with its group; or one more. */
  function pick(index: number | null, more = false) {
    const before = more ? picked.value : []
    if (more && index !== null && before.includes(index)) {
      const left = before.filter((i) => i !== index)
      element.value = left.at(-1) ?? null
      others.value = left
      return
    }
    element.value = index
    if (index === null) return
    const { group } = scene.value!.elements[index]
    const alike = scene.value!.elements.flatMap((e: SceneDocument, i: number) =>
      group && e.group === group ? [i] : [],
    )
    others.value = [...before, ...alike]
  }

  /** Give what is picked, or some elements, a value of a setting. */
  function give(name: string, value: unknown, which = picked.value) {
    if (!which.length) return
    const next = structuredClone(scene.value!)
    for (const index of which) next.elements[index][name] = value
    void keep(next)
  }

  /** Change a switch of what is picked: on for all unless it is on for all. */
  function flip(name: 'hidden' | 'locked', which = picked.value) {
    give(name, !which.every((i) => scene.value!.elements[i][name]), which)
  }

  /** Put what is picked in a group of its own, or out of its groups. */
  function together() {
    const elements = scene.value!.elements
    if (picked.value.length && picked.value.every((i) => elements[i].group)) return give('group', '')
    if (picked.value.length < 2) return
    const names = new Set(elements.map((e: SceneDocument) => e.group))
    let n = 1
    while (names.has(`Group ${n}`)) n++
    give('group', `Group ${n}`)
  }

  /** Attach an element to another, or to nothing; it stays where it is. */
  function attach(index: number, to: number | null) {
    const next = structuredClone(scene.value!)
    const own = next.elements[index]
    const parent = to === null ? null : next.elements[to].name
    if (index === to || (own.attached ?? null) === parent) return
    own.attached = parent
    own.pose = posed(own.pose ?? {}, placeOf(index), to === null ? null : placeOf(to))
    void keep(next)
  }

  function freeName(base: string): string {
    return freeNameOf(base, new Set(scene.value!.elements.map((e: { name: string }) => e.name)))
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

  /** Put in meshes, each as what it was chosen to be. */
  function addMeshes(pieces: Piece[]) {
    const made = pieces.map(({ name, facts, part, role, shown, delivered }) => {
      const { file, unit, up, animated } = facts
      return {
        kind: role === 'fill' ? 'fill' : 'collider',
        name,
        shape: { kind: 'mesh', file, unit, up, animated, part },
        pose: { translation: [0, 0, 0] },
        ...(['inside', 'shell', 'ground'].includes(role) ? { side: role } : {}),
        ...(role === 'none' ? { active: 0 } : {}),
        shown: shown ? 1 : 0,
        delivered,
      }
    })
    void putAll(made)
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
    if (!picked.value.length) return
    const elements = picked.value.map((i) => scene.value!.elements[i])
    localStorage.setItem(HELD, JSON.stringify({ take, elements }))
  }

  /** Put in what is held; false where it has a mesh that another take has. */
  function paste(take: number): boolean {
    const held = JSON.parse(localStorage.getItem(HELD) ?? 'null') as {
      take: number
      elements: SceneDocument[]
    } | null
    if (!held?.elements?.length) return true
    if (held.take !== take && held.elements.some((e) => e.shape?.kind === 'mesh')) return false
    void putAll(held.elements.map((e) => ({ ...e })))
    return true
  }

  /** Put in several; what they are attached to among them goes by its new name. */
  async function putAll(made: SceneDocument[]) {
    const next = structuredClone(scene.value!)
    const first = next.elements.length
    const called = new Map<string, string>()
    for (const one of made) {
      const names = new Set<string>(next.elements.map((e: SceneDocument) => e.name))
      const name = freeNameOf(one.name, names)
      called.set(one.name, name)
      next.elements.push({ ...one, name })
    }
    const names = new Set<string>(next.elements.map((e: SceneDocument) => e.name))
    for (const one of next.elements.slice(first)) {
      const to = called.get(one.attached) ?? one.attached
      one.attached = names.has(to) ? to : null
    }
    await keep(next)
    if (scene.value!.elements.length !== next.elements.length) return // it was refused
    element.value = next.elements.length - 1
    others.value = made.map((_, n) => first + n)
    onPick()
  }

  function remove() {
    const next = structuredClone(scene.value!)
    const gone = new Set(picked.value)
    const kept = next.elements.filter((_: SceneDocument, i: number) => !gone.has(i))
    const there = new Set(kept.map((e: SceneDocument) => e.name))
    next.elements.forEach((e: SceneDocument, i: number) => {
      if (gone.has(i) || !e.attached || there.has(e.attached)) return
      e.attached = null // what it was attached to goes: it stays where it is
      e.pose = posed(e.pose ?? {}, placeOf(i), null)
    })
    next.elements = kept
    element.value = null
    void keep(next)
  }

  return {
    element,
    picked,
    pick,
    put,
    addShape,
    addMeshes,
    rename,
    give,
    flip,
    together,
    attach,
    copy,
    paste,
    remove,
  }
}

function freeNameOf(base: string, names: Set<string>): string {
  for (let n = 1; ; n++) {
    const name = n === 1 ? base : `${base.replace(/ \d+$/, '')} ${n}`
    if (!names.has(name)) return name
  }
}
export type Elements = ReturnType<typeof useElements>
