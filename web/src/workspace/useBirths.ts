import { ref, watch, type Ref } from 'vue'

import { useNewest } from '../api/useNewest'
import type { Packed } from '../viewport/packed'
import type { SceneDocument } from './useTake'

/** Where a range that is left empty begins, of its end, by what layers are born of (`FROM` of the settings). */
export const EMPTY: Record<string, number> = { trapped: 0.4, crest: 0.4, vorticity: 0.5, energy: 0.1 }
const PAUSE = 60 // ms after the last change

/** Births of the frame at the playhead, again and again while ranges change. */
export function useBirths(
  take: number,
  at: { scene: Ref<SceneDocument | null>; quality: Ref<string>; frame: Ref<number>; mode: Ref<string> },
  show: (packed: Packed | null) => void,
) {
  const session = Math.random().toString(36).slice(2)
  const newest = useNewest()
  const seen = ref(false)
  const problem = ref('')
  /** frames of life before the one that is seen; without any, births alone */
  const lived = ref(0)
  let timer: ReturnType<typeof setTimeout> | undefined

  async function ask(scene: SceneDocument) {
    const body = { scene, frame: at.frame.value, lived: lived.value, session }
    const answer = await newest.ask(`/api/takes/${take}/births/${at.quality.value}`, body)
    if (!answer || !seen.value) return
    problem.value = answer.problem ?? ''
    if (answer.packed) show(answer.packed)
  }

  /** The scene as it would be now. */
  function tried(scene: SceneDocument) {
    if (!seen.value) return
    clearTimeout(timer)
    timer = setTimeout(() => void ask(scene), PAUSE)
  }

  function see(on: boolean) {
    seen.value = on
    problem.value = ''
    clearTimeout(timer)
    if (on) return tried(at.scene.value!)
    newest.end()
    show(null)
  }
  watch([at.frame, lived], () => tried(at.scene.value!))
  watch([at.mode, at.quality], () => seen.value && see(false))

  return { seen, problem, lived, see, tried }
}
