import { ref, shallowRef } from 'vue'

import { client, problemsOf, type Said, type Schemas } from '../api/client'

export type Kind = Schemas['Begun']['kind']
/** A production, shot or take, as the sheet's dialogs know it. */
export interface Thing {
  kind: Kind
  id: number
  name: string
  description: string
  archived: boolean
}
type Reply<T> = Promise<{ data?: T; error?: unknown }>

/** What is on the sheet, and what can be done with it; what is refused is told. */
export function useSheet() {
  const productions = shallowRef<Schemas['ProductionCard'][]>([])
  const loaded = ref(false)
  const problems = ref<Said[]>([])

  /** Load the sheet; after a failure say so, keep what is shown, and try again. */
  async function load() {
    const { data, error } = await client
      .GET('/api/productions')
      .catch((error: unknown) => ({ data: undefined, error }))
    if (data) {
      productions.value = data
      if (!loaded.value) problems.value = []
      loaded.value = true
    } else {
      problems.value = problemsOf(error)
      setTimeout(load, 3000)
    }
  }

  /** Do something, tell what is wrong with it, and show what became of it. */
  async function act<T>(asked: Reply<T>): Promise<T | undefined> {
    const { data, error } = await asked.catch((error: unknown) => ({ data: undefined, error }))
    problems.value = data ? [] : problemsOf(error)
    if (data) await load()
    return data
  }

  const at = (thing: Thing) => ({ path: { kind: thing.kind, key: thing.id } })
  return {
    productions,
    loaded,
    problems,
    load,
    act,
    change: (thing: Thing, body: Partial<Schemas['Change']>) =>
      act(client.PATCH('/api/sheet/{kind}/{key}', { params: at(thing), body })),
    duplicate: (thing: Thing, frames: boolean) =>
      act(client.POST('/api/sheet/{kind}/{key}/duplicate', { params: at(thing), body: { frames } })),
    remove: (thing: Thing) => act(client.DELETE('/api/sheet/{kind}/{key}', { params: at(thing) })),
    restore: (kind: Kind, key: number) =>
      act(client.POST('/api/sheet/{kind}/{key}/restore', { params: { path: { kind, key } } })),
  }
}
