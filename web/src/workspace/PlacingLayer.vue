<script setup lang="ts">
import ToolRail from './ToolRail.vue'
import { flightWords, type Placing } from './usePlacing'

/** Over the viewport: the tools, what a gesture says beside the pointer, and the stream of what is picked. */
defineProps<{ placing: Placing; picked: boolean; last: number }>()
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
    class="beside n"
    role="status"
    :style="{ left: `${placing.beside.value.x + 18}px`, top: `${placing.beside.value.y + 14}px` }"
  >
    <div v-for="(words, i) in placing.beside.value.lines" :key="i">{{ words }}</div>
  </div>
  <div v-else-if="placing.flight.value" class="stream n" role="status" aria-label="Stream">
    <div v-for="(words, i) in flightWords(placing.flight.value, last)" :key="i">{{ words }}</div>
  </div>
</template>

<style scoped>
.beside,
.stream {
  position: absolute;
  pointer-events: none;
  white-space: nowrap;
  color: #f3fbf9;
  text-shadow:
    0 0 3px #0d1214,
    0 0 6px #0d1214;
}
.stream {
  right: 14px;
  bottom: 12px;
  text-align: right;
  color: #b8c7c8;
}
</style>
