<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { firstChanged, keyTimes, withKeysAt } from './keys'
import type { SceneDocument } from './useTake'

/** The keys of what is picked, or of all: dragged in time, moved by arrows, taken out. */
const props = defineProps<{ scene: SceneDocument; element: number | null }>()
const emit = defineEmits<{
  keep: [scene: SceneDocument]
  go: [frame: number]
  changing: [frame: number | null]
}>()

const fps = computed<number>(() => props.scene.time.fps)
const frames = computed<number>(() => props.scene.time.last - props.scene.time.first + 1)
const lane = ref<HTMLElement>()
const dragged = ref<{ from: number; to: number; elements: number[] } | null>(null)

const keys = computed(() =>
  keyTimes(props.scene)
    .map((k) => ({
      ...k,
      elements: k.elements.filter((e) => props.element === null || e === props.element),
    }))
    .filter((k) => k.elements.length),
)
const at = (time: number) => `${((time * fps.value + 0.5) / frames.value) * 100}%`
const shown = (time: number) => (dragged.value?.from === time ? dragged.value.to : time)
const frameOf = (time: number) => +(props.scene.time.first + time * fps.value).toFixed(2)
const names = (elements: number[]) => elements.map((e) => props.scene.elements[e].name).join(', ')

function timeAt(event: PointerEvent): number {
  const box = lane.value!.getBoundingClientRect()
  const frame = ((event.clientX - box.left) / box.width) * frames.value - 0.5
  const whole = event.altKey ? frame : Math.round(frame)
  return Math.max(whole, 0) / fps.value
}
function press(event: PointerEvent, key: { time: number; elements: number[] }) {
  ;(event.target as HTMLElement).setPointerCapture(event.pointerId)
  dragged.value = { from: key.time, to: key.time, elements: key.elements }
}
function drag(event: PointerEvent) {
  if (dragged.value) dragged.value = { ...dragged.value, to: timeAt(event) }
}
function drop() {
  const d = dragged.value
  dragged.value = null
  if (!d) return
  if (Math.abs(d.to - d.from) > 1e-6) emit('keep', withKeysAt(props.scene, d.elements, d.from, d.to))
  else emit('go', Math.round(frameOf(d.from)))
}
function step(key: { time: number; elements: number[] }, by: number) {
  const to = Math.max((Math.round(key.time * fps.value) + by) / fps.value, 0)
  emit('keep', withKeysAt(props.scene, key.elements, key.time, to))
}
const changing = computed(() => {
  const d = dragged.value
  return !d || d.from === d.to ? null : firstChanged(props.scene, d.elements, d.from, d.to)
})
watch(changing, (frame) => emit('changing', frame))
const stays = computed(() =>
  changing.value === null
    ? ''
    : `frame ${frameOf(dragged.value!.to)}; what is cached before frame ${changing.value} stays`,
)
</script>

<template>
  <div ref="lane" class="keys" role="group" aria-label="Keys" @pointerdown.stop @pointermove.stop>
    <button
      v-for="k in keys"
      :key="k.time"
      class="bare"
      :class="{ on: element !== null, dragged: dragged?.from === k.time }"
      :style="{ left: at(shown(k.time)) }"
      :aria-label="`Key of ${names(k.elements)} at frame ${frameOf(k.time)}`"
      :title="`${names(k.elements)}, frame ${frameOf(k.time)}: drag it in time, arrows move it, Delete takes it out`"
      @pointerdown.stop="press($event, k)"
      @pointermove="drag"
      @pointerup="drop"
      @keydown.left.stop.prevent="step(k, -1)"
      @keydown.right.stop.prevent="step(k, 1)"
      @keydown.delete.stop.prevent="emit('keep', withKeysAt(scene, k.elements, k.time, null))"
    />
    <span v-if="stays" class="n told" role="status">{{ stays }}</span>
  </div>
</template>

<style scoped>
.keys {
  position: relative;
  height: 18px;
}
button {
  position: absolute;
  top: 3px;
  width: 10px;
  height: 13px;
  margin-left: -5px;
  background: var(--dim);
  clip-path: polygon(0 0, 100% 0, 100% 55%, 50% 100%, 0 55%);
  cursor: ew-resize;
}
button.on {
  background: var(--brass);
}
button.dragged,
button:focus-visible {
  background: var(--text);
}
.told {
  position: absolute;
  right: 0;
  top: 1px;
  color: var(--dim);
  pointer-events: none;
}
</style>
