<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import type { Packed } from '../viewport/packed'
import { RAMP } from '../viewport/materials'
import { label } from '../shell/words'
import NumberField from './NumberField.vue'

/** What the colours mean: the attribute, how many points have each value, and the ramp's range. */
const props = defineProps<{ shown: Packed; by: string }>()
const emit = defineEmits<{ by: [by: string]; range: [low: number, high: number] }>()

/** A range set by hand for an attribute; otherwise all of it. */
const held = ref<Record<string, [number, number]>>({})
const all = computed<[number, number]>(() => [props.shown.least ?? 0, props.shown.top ?? 1])
const range = computed(() => (props.shown.by && held.value[props.shown.by]) || all.value)
const most = computed(() => Math.max(...(props.shown.histogram ?? []).map((h) => Math.log1p(h)), 1))
const steps = computed(() =>
  [0, 0.5, 1].map((s) => +(range.value[0] + s * (range.value[1] - range.value[0])).toPrecision(2)),
)

watch(
  [range, () => props.shown],
  () => {
    const [low, high] = all.value
    const span = Math.max(high - low, 1e-9)
    emit('range', (range.value[0] - low) / span, (range.value[1] - low) / span)
  },
  { immediate: true },
)

function set(end: 0 | 1, value: number | null) {
  const next: [number, number] = [...range.value]
  next[end] = value ?? all.value[end]
  if (next[0] < next[1]) held.value = { ...held.value, [props.shown.by!]: next }
}
function propose() {
  const { near, far, by } = props.shown
  if (near! < far!) held.value = { ...held.value, [by!]: [near!, far!] }
}
function release() {
  const others = { ...held.value }
  delete others[props.shown.by!]
  held.value = others
}
</script>

<template>
  <div class="legend">
    <div class="head">
      <select
        :value="by"
        aria-label="Coloured by"
        @change="emit('by', ($event.target as HTMLSelectElement).value)"
      >
        <option v-if="shown.kind !== 'points'" value="">
          {{ shown.kind === 'sea' ? 'As it looks' : 'Its liquid' }}
        </option>
        <option v-for="c in shown.choices" :key="c" :value="c">{{ label(c) }}</option>
      </select>
      <span class="dim">{{ shown.unit }}</span>
    </div>
    <template v-if="shown.histogram">
      <svg viewBox="0 0 214 26" width="100%" height="26" preserveAspectRatio="none" aria-hidden="true">
        <rect
          v-for="(h, i) in shown.histogram"
          :key="i"
          :x="(i * 214) / shown.histogram.length"
          :y="26 - (Math.log1p(h) / most) * 26"
          :width="214 / shown.histogram.length - 1"
          :height="(Math.log1p(h) / most) * 26"
          fill="var(--dim)"
        />
      </svg>
      <div class="ramp" :style="{ background: `linear-gradient(90deg, ${RAMP.join(',')})` }" />
      <div class="n steps">
        <span v-for="(s, i) in steps" :key="i">{{ s }}</span>
      </div>
      <div class="ends">
        <NumberField :value="+range[0].toPrecision(3)" label="Ramp from" @keep="(v) => set(0, v)" />
        <NumberField :value="+range[1].toPrecision(3)" label="Ramp to" @keep="(v) => set(1, v)" />
        <button class="bare" title="From the 5th to the 95th of a hundred" @click="propose">5 to 95 %</button>
        <button class="bare" title="From the least to the most of each frame" @click="release">all</button>
      </div>
    </template>
    <slot />
    <div class="n dim">
      <template v-if="shown.kind === 'mesh'">{{ shown.total.toLocaleString('en') }} triangles</template>
      <template v-else-if="shown.count < shown.total"
        >{{ shown.count.toLocaleString('en') }} of {{ shown.total.toLocaleString('en') }} drawn</template
      >
    </div>
  </div>
</template>

<style scoped>
.legend {
  position: absolute;
  left: 12px;
  bottom: 12px;
  width: 250px;
  background: color-mix(in srgb, var(--pane) 88%, transparent);
  border: 1px solid var(--line);
  border-radius: 3px;
  padding: 7px 10px;
  font-size: 12px;
}
.head,
.steps {
  display: flex;
  justify-content: space-between;
}
.head select {
  background: none;
  border: 0;
  color: var(--text);
  font-size: 12px;
  margin-left: -4px;
}
.steps {
  font-size: 11px;
  color: var(--dim);
}
.ramp {
  height: 7px;
}
.ends {
  display: grid;
  grid-template-columns: 1fr 1fr auto auto;
  gap: 5px;
  margin: 4px 0 2px;
}
.ends button {
  color: var(--accent);
  font-size: 11px;
  white-space: nowrap;
}
</style>
