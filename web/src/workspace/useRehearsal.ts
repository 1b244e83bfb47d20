import { onBeforeUnmount, ref, shallowRef, watch, type Ref } from 'vue'

import { csrf, problemsOf, type Said } from '../api/client'
import { unpack, type Packed } from '../viewport/packed'
import type { SceneDocument } from './useTake'

const FASTEST = 1000 / 24 // ms a frame at least
const AGAIN = 1200 // ms after a scene that could not be rehearsed

export interface Rehearsal {
  frame: number
  voxel: number
  coarser: number
  substeps: number
  seconds: number
  /** the frame that it began with */
  begun: number
}

/** A coarse liquid that plays while the scene is edited: it begins again when a setting changes, and is never kept. */
export function useRehearsal(
  id: number,
  scene: Ref<SceneDocument | null>,
  by: Ref<string>,
  /** the frame that is looked at and its quality: where it is current the rehearsal begins behind it */
  from: () => { start: number; quality: string },
  show: (packed: Packed, at: Rehearsal) => void,
) {
  const on = ref(false)
  const held = ref(false)
  const told = shallowRef<Rehearsal | null>(null)
  const rate = ref(0)
  const problems = ref<Said[]>([])
  const session = Math.random().toString(36).slice(2)
  let running = false
  let after: number | null = null
  let begun = { start: 0, quality: 'draft' }
  let wanted: SceneDocument | null = null

  async function play() {
    if (running) return
    running = true
    while (on.value) {
      const begun = performance.now()
      if (!held.value && wanted !== scene.value) {
        wanted = scene.value
        after = null
      }
      const wait = (await step()) ? FASTEST - (performance.now() - begun) : AGAIN
      if (wait > 0) await new Promise((resolve) => setTimeout(resolve, wait))
      const now = 1000 / (performance.now() - begun)
      rate.value = rate.value ? 0.8 * rate.value + 0.2 * now : now
    }
    running = false
    void fetch(`/api/takes/${id}/rehearse?session=${session}`, {
      method: 'DELETE',
      headers: { 'X-CSRFToken': csrf() },
      keepalive: true,
    }).catch(() => {})
  }

  async function step(): Promise<boolean> {
    try {
      const reply = await fetch(`/api/takes/${id}/rehearse`, {
        method: 'POST',
        headers: { 'Content-Type': 'application/json', 'X-CSRFToken': csrf() },
        body: JSON.stringify({ scene: wanted, after, session, by: by.value || 'speed', ...begun }),
      })
      if (!reply.ok) {
        problems.value = problemsOf(await reply.json())
        after = null
        return false
      }
      const packed = unpack(await reply.arrayBuffer()) as Packed & { rehearsal: Rehearsal }
      problems.value = []
      after = packed.rehearsal.frame
      told.value = packed.rehearsal
      if (on.value) show(packed, packed.rehearsal)
      return true
    } catch {
      return false
    }
  }

  watch(on, (is) => {
    if (!is) return
    wanted = null
    begun = from()
    rate.value = 0
    told.value = null
    held.value = false
    void play()
  })
  onBeforeUnmount(() => (on.value = false))
  return { on, held, told, rate, problems }
}
