import { computed, ref, shallowRef, type Ref } from 'vue'

import { client, problemsOf, type Said } from '../api/client'
import { useEvents, type RunEvent } from '../shell/useEvents'

/** The take's run: asked for, stopped, followed. */
export function useRun(
  id: number,
  quality: Ref<'draft' | 'proof' | 'final'>,
  last: () => number,
  onNews: (event: RunEvent) => Promise<void>,
) {
  const run = shallowRef<RunEvent | null>(null)
  const refused = ref<Said[]>([])
  const active = computed(() => !!run.value && ['waiting', 'running'].includes(run.value.status))
  const making = computed(() =>
    run.value?.status === 'running' && run.value.quality === quality.value && run.value.stage
      ? { stage: run.value.stage, frame: Math.min((run.value.frame ?? 0) + 1, last()) }
      : null,
  )

  let soon: ReturnType<typeof setTimeout> | undefined
  useEvents((event) => {
    if (event.type === 'take' || event.take !== id) return
    run.value = event
    if (event.quality !== quality.value) return
    soon ??= setTimeout(
      () => {
        soon = undefined
        void onNews(event)
      },
      event.type === 'run' ? 50 : 400,
    )
  })

  /** A short run may have been heard of, and even have ended, before its start is answered. */
  function begun(data: Omit<RunEvent, 'type'> | undefined, error: unknown) {
    refused.value = data ? [] : problemsOf(error)
    if (data && run.value?.run !== data.run) run.value = { ...data, type: 'run' }
  }

  async function start(stages: string[]) {
    const { data, error } = await client
      .POST('/api/takes/{take_id}/runs', {
        params: { path: { take_id: id } },
        body: { quality: quality.value, stages },
      })
      .catch((thrown: unknown) => ({ data: undefined, error: thrown }))
    begun(data, error)
  }

  async function deliver(name: string) {
    const { data, error } = await client
      .POST('/api/takes/{take_id}/deliver/{quality}', {
        params: { path: { take_id: id, quality: quality.value }, query: { name } },
      })
      .catch((thrown: unknown) => ({ data: undefined, error: thrown }))
    begun(data, error)
  }

  async function stop() {
    if (run.value)
      await client
        .POST('/api/runs/{run_id}/stop', { params: { path: { run_id: run.value.run } } })
        .catch((error: unknown) => (refused.value = problemsOf(error)))
  }

  /** What the newest run of the take does, when the page begins. */
  async function find() {
    const reply = await client.GET('/api/runs').catch(() => null)
    const latest = reply?.data?.find((r) => r.take === id)
    if (latest && !run.value) run.value = { ...latest, type: 'run' }
  }

  return { run, refused, active, making, start, deliver, stop, find }
}
