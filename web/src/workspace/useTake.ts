import { computed, ref, shallowRef } from 'vue'

import { client, sentences, type Schemas } from '../api/client'

/* eslint-disable @typescript-eslint/no-explicit-any -- a scene is described by its schema, not by types */
export type SceneDocument = Record<string, any>

/** A take: its scene with undo, its problems, forecast and stages. */
export function useTake(id: number) {
  const take = shallowRef<Schemas['TakeDetail'] | null>(null)
  const scene = shallowRef<SceneDocument | null>(null)
  const quality = ref<'draft' | 'proof' | 'final'>('draft')
  const problems = ref<string[]>([])
  const remarks = ref<string[]>([])
  const refused = ref<string[]>([])
  const forecast = shallowRef<Schemas['ForecastReply'] | null>(null)
  const stages = shallowRef<Schemas['StageReport'][]>([])
  const missing = ref('')
  const undoable = shallowRef<SceneDocument[]>([])
  const redoable = shallowRef<SceneDocument[]>([])
  let revision = 0
  let saving: Promise<void> = Promise.resolve()

  async function load() {
    const { data, error } = await client.GET('/api/takes/{take_id}', { params: { path: { take_id: id } } })
    if (!data) {
      missing.value = sentences(error)[0]
      return
    }
    adopt(data)
    await refresh()
  }

  function adopt(data: Schemas['TakeDetail']) {
    take.value = data
    scene.value = data.scene
    revision = data.revision
    problems.value = data.problems ?? []
    remarks.value = data.remarks ?? []
  }

  async function refresh() {
    const path = { take_id: id, quality: quality.value }
    const [cost, report] = await Promise.all([
      client.GET('/api/takes/{take_id}/forecast/{quality}', { params: { path } }),
      client.GET('/api/takes/{take_id}/stages/{quality}', { params: { path } }),
    ])
    if (cost.data) {
      forecast.value = cost.data
      problems.value = cost.data.problems
      remarks.value = cost.data.remarks
    }
    if (report.data) stages.value = report.data
  }

  async function refreshStages() {
    const { data } = await client.GET('/api/takes/{take_id}/stages/{quality}', {
      params: { path: { take_id: id, quality: quality.value } },
    })
    if (data) stages.value = data
  }

  /** Keep a changed scene; a refused one is told and the screen goes back to what is kept. */
  function keep(next: SceneDocument, remember = true): Promise<void> {
    const before = scene.value!
    scene.value = next
    saving = saving.then(async () => {
      const { data, error } = await client.PUT('/api/takes/{take_id}/scene', {
        params: { path: { take_id: id } },
        body: { revision, scene: next },
      })
      if (!data) {
        refused.value = sentences(error)
        scene.value = before
        return
      }
      refused.value = []
      if (remember) {
        undoable.value = [...undoable.value.slice(-99), before]
        redoable.value = []
      }
      adopt(data)
      await refresh()
    })
    return saving
  }

  async function undo() {
    const before = undoable.value.at(-1)
    if (!before) return
    undoable.value = undoable.value.slice(0, -1)
    redoable.value = [...redoable.value, scene.value!]
    await keep(before, false)
  }

  async function redo() {
    const next = redoable.value.at(-1)
    if (!next) return
    redoable.value = redoable.value.slice(0, -1)
    undoable.value = [...undoable.value, scene.value!]
    await keep(next, false)
  }

  const stage = computed(() => Object.fromEntries(stages.value.map((s) => [s.stage, s])))

  return {
    take,
    scene,
    quality,
    problems,
    remarks,
    refused,
    forecast,
    stages,
    stage,
    missing,
    undoable,
    redoable,
    load,
    refresh,
    refreshStages,
    keep,
    undo,
    redo,
  }
}
