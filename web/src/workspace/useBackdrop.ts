import * as THREE from 'three'
import { watch, type Ref } from 'vue'

import type { Viewport } from '../viewport/viewport'
import type { SceneDocument } from './useTake'

/** The image behind the shot camera, a frame at a time; the newest that was asked for is shown. */
export function useBackdrop(
  id: number,
  port: () => Viewport | undefined,
  kept: Ref<{ scene: SceneDocument } | null>,
  frame: Ref<number>,
) {
  const loader = new THREE.TextureLoader()
  let asked = 0
  let shown = ''

  async function show() {
    const file = String(kept.value?.scene.camera?.backdrop ?? '')
    const what = file && `${file}?${file.includes('#') ? frame.value : 0}`
    if (what === shown) return
    shown = what
    const mine = ++asked
    if (!file) {
      port()?.showBackdrop(null)
      return
    }
    try {
      const address = `/api/takes/${id}/backdrop/${frame.value}?${encodeURIComponent(file)}`
      const texture = await loader.loadAsync(address)
      texture.colorSpace = THREE.SRGBColorSpace
      if (mine === asked) port()?.showBackdrop(texture)
      else texture.dispose()
    } catch {
      shown = '' // asked for again with the next frame
    }
  }
  watch([kept, frame], () => void show())
  return { show }
}
