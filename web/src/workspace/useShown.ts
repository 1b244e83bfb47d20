import { computed, ref, shallowRef, watch, type Ref } from 'vue'

import type { Schemas } from '../api/client'
import type { Packed } from '../viewport/packed'
import type { Look } from '../viewport/materials'
import type { SeaLook } from '../viewport/sea'
import type { Viewport } from '../viewport/viewport'
import { useFrameCache } from './useFrameCache'
import { useJudge } from './useJudge'
import type { SceneDocument } from './useTake'

export const JUDGE = 'judge'
export const REHEARSE = 'rehearse'

/** How a scene's sea is laid and looks; keys of chance as `Laid.key` of basin/sea/horizon.py has them. */
function seaLook(scene: SceneDocument): SeaLook {
  const { sea, sea_foam: foam } = scene
  const hero = sea.hero?.place
  return {
    level: sea.level,
    middle: hero ? [hero[0], hero[2]] : [0, 0],
    from: sea.unlike,
    keys: sea.sets.map((_: unknown, n: number) => sea.seed * 16 + n),
    pattern: foam.pattern,
    wire: false,
  }
}

interface At {
  scene: Ref<SceneDocument | null>
  quality: Ref<string>
  frame: Ref<number>
  playing: Ref<boolean>
  stages: Ref<Schemas['StageCard'][]>
  report: Ref<Record<string, Schemas['StageReport']>>
}

/** What the viewport shows: frames of a stage, or one frame that is judged; coloured by an attribute. */
export function useShown(id: number, port: () => Viewport | undefined, at: At) {
  const frames = useFrameCache(id)
  const mode = ref('')
  const colouring = ref<Record<string, string>>({})
  const shown = shallowRef<Packed | null>(null)
  const absent = ref('')
  /** the frame that the picture is of */
  const pictured = ref<number | null>(null)
  const older = computed(() =>
    shown.value && pictured.value !== null && pictured.value !== at.frame.value
      ? `still the picture of frame ${pictured.value}`
      : '',
  )
  function picture(packed: Packed | null, frame: number) {
    shown.value = packed
    pictured.value = packed && frame
  }
  const judge = useJudge(id, () => port()?.middle() ?? [0, 0, 0])
  const judged = computed(() => at.stages.value.find((s) => s.judged)?.name ?? '')
  const by = computed(
    () =>
      colouring.value[mode.value] ??
      at.stages.value.find((s) => s.name === mode.value || mode.value === REHEARSE)?.colouring ??
      '',
  )
  const first = () => at.scene.value?.time.first ?? 1

  let turn = 0 // what was asked for last is shown, in whatever order answers come
  let newest = 0 // of those that are shown
  async function show() {
    const mine = at.frame.value
    const asked = ++turn
    port()?.showTime(mine - first())
    if (mode.value === REHEARSE) {
      absent.value = ''
      return
    }
    if (mode.value === JUDGE) {
      judge.options.by = by.value
      judge.ask(at.scene.value!, at.quality.value, mine)
      absent.value = ''
      return
    }
    const stage = at.stages.value.find((s) => s.name === mode.value)
    const report = at.report.value[mode.value]
    const state = report?.states[mine - (report?.first ?? 1)]
    const there = state === 'current' || state === 'stale'
    const packed = there ? await frames.at(at.quality.value, mode.value, mine, by.value) : null
    // while playing, an answer that is late is better than none, but never one that is older than what is seen
    if (asked < newest || (asked !== turn && !at.playing.value)) return
    newest = asked
    absent.value = packed ? '' : (stage?.absent ?? '')
    if (!packed) {
      if (!at.playing.value) {
        port()?.clearLiquid()
        port()?.render()
        picture(null, mine)
      }
      return
    }
    const beneath = stage?.over ? await below(stage.over, mine) : null
    if (asked !== turn && !at.playing.value) return
    picture(packed, mine)
    if (beneath) port()?.showMesh(beneath, false, true)
    if (packed.kind === 'sea') port()?.showSea(packed, seaLook(at.scene.value!))
    else if (packed.kind === 'points') port()?.showPoints(packed, !!beneath)
    else port()?.showMesh(packed)
    frames.prefetch(at.quality.value, mode.value, mine, by.value, (n) => {
      return report?.states[n - report.first] === 'current'
    })
  }

  /** A frame of the stage beneath what is seen, if it is there. */
  async function below(name: string, frame: number) {
    const report = at.report.value[name]
    if (!report || report.states[frame - report.first] !== 'current') return null
    return frames.at(at.quality.value, name, frame, '')
  }

  /** Births in the place of the air that they come of, over the surface if it is there; none shows the air again. */
  async function births(packed: Packed | null) {
    if (!packed) return show()
    const over = at.stages.value.find((s) => s.over)?.over
    const beneath = over ? await below(over, at.frame.value) : null
    if (beneath) port()?.showMesh(beneath, false, true)
    port()?.showPoints(packed, !!beneath)
  }

  /** What is judged: the mesh, and the particles that it is made of beside it if wanted. */
  async function showJudged() {
    const packed = judge.packed.value
    if (mode.value !== JUDGE || !packed) return
    picture(packed, judge.of())
    port()?.showMesh(packed, judge.options.wire)
    if (judge.options.missed) port()?.showLeftOut(packed)
    if (!judge.options.beside) return
    const made = at.stages.value.find((s) => s.judged)
    const source = at.stages.value.find((s) => s.name === made?.reads[0])
    if (!source) return
    const points = await frames.at(at.quality.value, source.name, at.frame.value, source.colouring)
    if (points && mode.value === JUDGE && shown.value === packed) port()?.showPoints(points, true)
  }

  watch(
    [judge.packed, () => judge.options.wire, () => judge.options.beside, () => judge.options.missed],
    showJudged,
  )
  watch(at.frame, show)
  watch([mode, colouring], (_, [before]) => {
    if (before === JUDGE && mode.value !== JUDGE) judge.end()
    void show()
  })

  /** Frames may have been made anew. */
  async function renew() {
    frames.forget()
    await show()
  }

  /** Points of several kinds are drawn in another way. */
  const kinds = ref<Look>({ seen: [true, true, true], layers: [], trueSize: false, adding: false })
  watch(kinds, (look) => {
    port()?.lookAt(look)
    void show()
  })

  return { births, kinds, mode, by, colouring, shown, picture, older, absent, judge, judged, show, renew }
}
