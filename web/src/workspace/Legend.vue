<script setup lang="ts">
import { computed } from 'vue'

import { RAMP } from '../viewport/materials'

/** What the colours mean: the ramp with numbers, and how many particles have each speed. */
const props = defineProps<{ top: number; histogram: number[]; drawn: number; total: number }>()
const most = computed(() => Math.max(...props.histogram.map((h) => Math.log1p(h)), 1))
const steps = computed(() => [0, 0.25, 0.5, 0.75, 1].map((s) => +(s * props.top).toPrecision(2)))
</script>

<template>
  <div class="legend">
    <div class="head"><span>Speed</span><span class="dim">m/s</span></div>
    <svg viewBox="0 0 214 26" width="100%" height="26" preserveAspectRatio="none" aria-hidden="true">
      <rect
        v-for="(h, i) in histogram"
        :key="i"
        :x="(i * 214) / histogram.length"
        :y="26 - (Math.log1p(h) / most) * 26"
        :width="214 / histogram.length - 1"
        :height="(Math.log1p(h) / most) * 26"
        fill="var(--dim)"
      />
    </svg>
    <div class="ramp" :style="{ background: `linear-gradient(90deg, ${RAMP.join(',')})` }" />
    <div class="n steps">
      <span v-for="(s, i) in steps" :key="i">{{ s }}</span>
    </div>
    <div v-if="drawn < total" class="n dim">
      {{ drawn.toLocaleString('en') }} of {{ total.toLocaleString('en') }} drawn
    </div>
  </div>
</template>

<style scoped>
.legend {
  position: absolute;
  left: 12px;
  bottom: 12px;
  width: 236px;
  background: color-mix(in srgb, var(--pane) 88%, transparent);
  border: 1px solid var(--line);
  border-radius: 3px;
  padding: 7px 10px;
  font-size: 12px;
  pointer-events: none;
}
.head,
.steps {
  display: flex;
  justify-content: space-between;
}
.steps {
  font-size: 11px;
  color: var(--dim);
}
.ramp {
  height: 7px;
}
</style>
