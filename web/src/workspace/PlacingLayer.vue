<script setup lang="ts">
import { computed, ref } from 'vue'

import StreamBox from './StreamBox.vue'
import ToolRail from './ToolRail.vue'
import type { Placing } from './usePlacing'

/** Over the viewport: the tools, what a gesture says beside the pointer, and what the picked thing does. */
const props = defineProps<{ placing: Placing; picked: boolean; last: number }>()

// beside the pointer, and never beyond the viewport
const box = ref<HTMLElement>()
const room = (size: 'Width' | 'Height') => {
  const own = box.value
  return own ? own.parentElement![`client${size}`] - own[`offset${size}`] - 6 : Infinity
}
const left = computed(() => Math.min(props.placing.beside.value.x + 18, room('Width')))
const top = computed(() => Math.min(props.placing.beside.value.y + 14, room('Height')))
</script>

<template>
  <ToolRail
    :tool="placing.tool.value"
    :way="placing.way.value"
    :own="placing.own.value"
    :recording="placing.recording.value"
    :picked="picked"
    @take="placing.take"
    @way="placing.setWay"
    @own="placing.toggleOwn()"
    @record="placing.toggleRecording()"
  />
  <div
    v-if="placing.beside.value.lines.length"
    ref="box"
    class="beside n"
    role="status"
    :style="{ left: `${left}px`, top: `${top}px` }"
  >
    <div v-for="(words, i) in placing.beside.value.lines" :key="i">{{ words }}</div>
  </div>
  <StreamBox
    v-else-if="placing.flight.value"
    :flight="placing.flight.value"
    :filling="placing.filling.value"
    :last="last"
    @solve="placing.solve"
    @level="placing.fillTo"
    @until="placing.untilFull"
  />
  <div v-else-if="placing.pushes.value?.lines.length" class="push n" role="status" aria-label="Push">
    pushes with {{ +placing.pushes.value.strongest.toPrecision(3) }} m/s² at most
  </div>
</template>

<style scoped>
.beside,
.push {
  position: absolute;
  pointer-events: none;
  white-space: nowrap;
  color: #f3fbf9;
  text-shadow:
    0 0 3px #0d1214,
    0 0 6px #0d1214;
}
.push {
  right: 14px;
  bottom: 12px;
  color: #d7a54a;
}
</style>
