import { reactive, ref, shallowRef, watch, type Ref } from 'vue'

import { csrf, problemsOf } from '../api/client'
import { unpack, type Packed } from '../viewport/packed'
import type { SceneDocument } from './useTake'

const PAUSE = 150 // ms after the last change before a frame is meshed

/** One frame meshed again while settings change: the newest edit wins, an older answer is dropped. */
export function useJudge(take: number, middle: () => number[]) {
  const session = Math.random().toString(36).slice(2)
  const options = reactive({
    held: false,
    region: false,
    reach: 0.15,
    coarser: 1,
    wire: false,
    beside: false,
    missed: true,
    by: '',
  })
  const packed: Ref<Packed | null> = shallowRef(null)
  /** the frame that `packed` is of */
  let of = 0
  const problem = ref('')
  const busy = ref(false)
  /** whether something changed since the frame shown was meshed */
  const behind = ref(false)
  let wanted: { scene: SceneDocument; quality: string; frame: number } | null = null
  let running: AbortController | undefined
  let timer: ReturnType<typeof setTimeout> | undefined
  let where: number[] | null = null

  function ask(scene: SceneDocument, quality: string, frame: number) {
    wanted = { scene, quality, frame }
    behind.value = true
    if (!options.held) soon()
  }

  /** Ask again when the scene changes, but not when what was asked for comes back from the server as kept. */
  function follow(scene: SceneDocument, quality: string, frame: number) {
    if (JSON.stringify(wanted) !== JSON.stringify({ scene, quality, frame })) ask(scene, quality, frame)
  }

  function soon() {
    clearTimeout(timer)
    timer = setTimeout(() => void rebuild(), PAUSE)
  }

  async function rebuild() {
    if (!wanted) return
    const { scene, quality, frame } = wanted
    running?.abort()
    const mine = (running = new AbortController())
    busy.value = true
    if (options.region) where ??= middle()
    try {
      const reply = await fetch(`/api/takes/${take}/judge/${quality}`, {
        method: 'POST',
        headers: { 'Content-Type': 'application/json', 'X-CSRFToken': csrf() },
        body: JSON.stringify({
          scene,
          frame,
          middle: options.region ? where : null,
          reach: options.reach,
          coarser: options.coarser,
          by: options.by,
          session,
        }),
        signal: mine.signal,
      })
      if (reply.ok) {
        const got = unpack(await reply.arrayBuffer())
        if (mine !== running) return
        of = frame
        packed.value = got
        problem.value = ''
        behind.value = false
      } else if (reply.status !== 409) {
        problem.value = problemsOf(await reply.json().catch(() => null))[0].says
      }
    } catch (error) {
      if ((error as Error).name !== 'AbortError') problem.value = 'The server did not answer; try again.'
    }
    if (mine === running) busy.value = false
  }

  watch(
    () => [options.region, options.reach, options.coarser, options.by],
    ([region], [before]) => {
      if (region !== before) where = null
      if (wanted) soon()
    },
  )
  watch(
    () => options.held,
    (held) => {
      if (!held && behind.value) soon()
    },
  )

  function end() {
    clearTimeout(timer)
    running?.abort()
    wanted = null
    packed.value = null
    busy.value = false
  }

  return { options, packed, of: () => of, problem, busy, behind, ask, follow, end }
}
