import { reactive, ref, shallowRef, watch, type Ref } from 'vue'

import { useNewest } from '../api/useNewest'
import type { Packed } from '../viewport/packed'
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
  const newest = useNewest()
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
    busy.value = true
    if (options.region) where ??= middle()
    const { region, reach, coarser, by } = options
    const asked = { scene, frame, middle: region ? where : null, reach, coarser, by, session }
    const answer = await newest.ask(`/api/takes/${take}/judge/${quality}`, asked)
    if (!answer) return
    busy.value = false
    if (answer.packed) {
      of = frame
      packed.value = answer.packed
      problem.value = ''
      behind.value = false
    } else if (answer.problem) problem.value = answer.problem
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
    newest.end()
    wanted = null
    packed.value = null
    busy.value = false
  }

  return { options, packed, of: () => of, problem, busy, behind, ask, follow, end }
}
