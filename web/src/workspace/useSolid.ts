import { ref, watch, type Ref } from 'vue'

import { fetchPacked } from '../viewport/packed'
import type { Viewport } from '../viewport/viewport'

/** A collider as the solver's grid has it, shown in its place, and how far that is off. */
export function useSolid(
  id: number,
  port: () => Viewport | undefined,
  at: { element: Ref<number | null>; quality: Ref<string>; frame: Ref<number>; scene: Ref<unknown> },
) {
  const solid = ref<string | null>(null)

  function hide() {
    solid.value = null
    port()?.showSolid(null)
  }

  async function toggle() {
    if (solid.value) return hide()
    solid.value = 'Looking…'
    const index = at.element.value
    const packed = await fetchPacked(
      `/api/takes/${id}/elements/${index}/solid/${at.quality.value}/${at.frame.value}`,
    )
    if (!solid.value || index !== at.element.value) return
    if (!packed) {
      solid.value = 'It has no surface in the domain at this frame, or too many voxels to be shown.'
      return
    }
    const mm = (v?: number) => +(v ?? 0).toPrecision(2)
    solid.value = `Voxel ${mm(packed.voxel)} mm: off by ${mm(packed.largest)} mm at most, ${mm(packed.mean)} mm in the mean.`
    port()?.showSolid(packed, index)
  }

  watch([at.element, at.quality, at.frame, at.scene], hide)
  return { solid, toggle }
}
