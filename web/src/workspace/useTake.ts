import { computed, ref, shallowRef } from 'vue'

import { client, problemsOf, type Said, type Schemas } from '../api/client'
import { useEvents } from '../shell/useEvents'
import { useSaving } from './useSaving'

const TOLD = 8000 // ms that it is said who else changed the take

/* eslint-disable @typescript-eslint/no-explicit-any -- a scene is described by its schema, not by types */
export type SceneDocument = Record<string, any>

/** A take: its scene, what is said of it, what it costs and what of its frames is there. */
export function useTake(id: number) {
  const take = shallowRef<Schemas['TakeDetail'] | null>(null)
  const quality = ref<'draft' | 'proof' | 'final'>('draft')
  const problems = ref<Said[]>([])
  const remarks = ref<Said[]>([])
  const forecast = shallowRef<Schemas['ForecastReply'] | null>(null)
  const reports = shallowRef<Schemas['StageReport'][]>([])
  const missing = ref<Said[]>([])
  /** who else has just changed the take */
  const other = ref('')
  const saving = useSaving(id, (kept) => {
    take.value = kept
    problems.value = kept.problems ?? []
    remarks.value = kept.remarks ?? []
    void refresh()
  })

  let quiet = 0
  useEvents((event) => {
    if (event.type !== 'take' || event.take !== id) return
    if (event.revision <= saving.revision() || saving.state.value !== 'kept') return
    other.value = event.by
    clearTimeout(quiet)
    quiet = window.setTimeout(() => (other.value = ''), TOLD)
    void saving.heard(event.revision)
  })

  async function load() {
    const { data, error } = await client.GET('/api/takes/{take_id}', { params: { path: { take_id: id } } })
    if (!data) {
      missing.value = problemsOf(error)
      return
    }
    saving.adopt(data)
    await refresh()
  }

  // what was asked for last is shown, in whatever order answers come
  let asked = 0
  let askedReports = 0

  async function refresh() {
    const mine = ++asked
    const path = { take_id: id, quality: quality.value }
    const [cost] = await Promise.all([
      client.GET('/api/takes/{take_id}/forecast/{quality}', { params: { path } }).catch(() => null),
      refreshReports(),
    ])
    if (mine !== asked || !cost?.data) return
    forecast.value = cost.data
    problems.value = cost.data.problems
    remarks.value = cost.data.remarks
  }

  async function refreshReports() {
    const mine = ++askedReports
    const path = { take_id: id, quality: quality.value }
    const reply = await client
      .GET('/api/takes/{take_id}/stages/{quality}', { params: { path } })
      .catch(() => null)
    // what a scene has nothing to do with is out of sight
    if (mine === askedReports && reply?.data) reports.value = reply.data.filter((r) => r.concerns)
  }

  const report = computed(() => Object.fromEntries(reports.value.map((r) => [r.stage, r])))
  return {
    ...saving,
    take,
    quality,
    problems,
    remarks,
    forecast,
    reports,
    report,
    missing,
    other,
    load,
    refresh,
    refreshReports,
  }
}
