<script setup lang="ts">
import { onBeforeUnmount, onMounted, ref } from 'vue'

import type { Views } from './useViews'

/** The canvases: the one that is worked in, and views along the axes beside it. */
const props = defineProps<{ views: Views }>()
const emit = defineEmits<{ sized: [width: number, height: number] }>()

const canvas = ref<HTMLCanvasElement>()
const main = ref<HTMLElement>()
const size = () => emit('sized', main.value!.clientWidth, main.value!.clientHeight)
let watcher: ResizeObserver | undefined
onMounted(() => {
  watcher = new ResizeObserver(size)
  watcher.observe(main.value!)
})
onBeforeUnmount(() => watcher?.disconnect())
function hold(i: number, one: unknown) {
  const { canvases } = props.views
  canvases.value[i] = one as HTMLCanvasElement
}
defineExpose({ canvas, size })
</script>

<template>
  <div class="panes" :data-count="views.count.value">
    <div ref="main" class="pane"><canvas ref="canvas" /></div>
    <div v-for="(one, i) in views.beside()" :key="one.axis" class="pane">
      <canvas :ref="(c) => hold(i, c)" :aria-label="one.name" />
      <span class="dim n">{{ one.name }}</span>
    </div>
  </div>
</template>

<style scoped>
.panes {
  position: absolute;
  inset: 0;
  display: grid;
  gap: 1px;
}
.panes[data-count='2'] {
  grid-template-columns: 3fr 2fr;
}
.panes[data-count='4'] {
  grid-template: 1fr 1fr 1fr / 2fr 1fr;
}
.panes[data-count='4'] .pane:first-child {
  grid-row: 1 / 4;
}
.pane {
  position: relative;
  min-width: 0;
  min-height: 0;
}
.pane + .pane {
  border-left: 1px solid var(--line);
  border-top: 1px solid var(--line);
}
.pane span {
  position: absolute;
  left: 8px;
  bottom: 6px;
}
canvas {
  position: absolute;
  width: 100%;
  height: 100%;
}
</style>
