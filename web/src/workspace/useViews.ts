import { ref, watch, type Ref } from 'vue'

import type { Viewport } from '../viewport/viewport'
import { isCurve, withKey } from './poses'
import type { SceneDocument } from './useTake'

const BESIDE = ['z', 'x', 'y'] as const
const NAMES = { z: 'Front', x: 'Side', y: 'Top' }
const COUNTS = [1, 2, 4]

/** From where the shot is seen: its camera, kept views, and views along the axes beside the one that is worked in. */
export function useViews(
  port: () => Viewport | undefined,
  at: {
    scene: Ref<SceneDocument | null>
    frame: Ref<number>
    picked: Ref<number[]>
    keep: (scene: SceneDocument) => Promise<void>
    holder: Ref<HTMLElement | undefined>
  },
) {
  const count = ref(1)
  const figure = ref(false)
  const canvases = ref<HTMLCanvasElement[]>([])
  const beside = () => BESIDE.slice(0, count.value - 1).map((axis) => ({ axis, name: NAMES[axis] }))

  watch([count, canvases], drawBeside, { flush: 'post', deep: true })
  function drawBeside() {
    port()?.showBeside(
      beside().flatMap(({ axis }, i) => (canvases.value[i] ? [{ axis, canvas: canvases.value[i] }] : [])),
    )
  }
  watch(figure, (on) => port()?.showFigure(on))

  const edited = (change: (scene: SceneDocument) => void) => {
    const next = structuredClone(at.scene.value!)
    change(next)
    void at.keep(next)
  }

  /** Put the shot camera where one stands; with keys, one at the playhead. */
  function useHere(keyed: boolean) {
    const here = port()?.standing()
    if (!here) return
    edited((scene) => {
      const time = (at.frame.value - scene.time.first) / scene.time.fps
      for (const [name, value] of Object.entries(here)) {
        const was = scene.camera[name]
        scene.camera[name] = keyed ? withKey(isCurve(was) ? was.keys : [], +time.toFixed(6), value) : value
      }
    })
  }

  return {
    count,
    figure,
    canvases,
    beside,
    through: () => port()?.lookThrough(),
    whole: () => port()?.fit(),
    near: () => port()?.approach(at.picked.value),
    along: (axis: 'x' | 'y' | 'z') => port()?.along(axis),
    show: (n: number) => (count.value = n),
    toggleFigure: () => (figure.value = !figure.value),
    more: () => (count.value = COUNTS[(COUNTS.indexOf(count.value) + 1) % COUNTS.length]),
    full: () =>
      document.fullscreenElement
        ? void document.exitFullscreen()
        : void at.holder.value?.requestFullscreen().catch(() => {}),
    stand: (view: SceneDocument) => port()?.stand(view as never),
    keep: (name: string) =>
      edited((scene) => {
        const others = ((scene.views ?? []) as SceneDocument[]).filter((v) => v.name !== name.trim())
        scene.views = [...others, { name: name.trim(), ...port()!.standing() }]
      }),
    forget: (index: number) => edited((scene) => scene.views.splice(index, 1)),
    useForShot: (view: SceneDocument) =>
      edited((scene) => {
        const { eye, target, angle, roll } = view
        scene.camera = { ...scene.camera, eye, target, angle, roll }
      }),
    useHere,
  }
}
export type Views = ReturnType<typeof useViews>
