<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import NumberField from './NumberField.vue'
import { flightWords } from './usePlacing'

/** The stream of the inflow that is picked: where it flies in words, and its numbers, of which any can be given. */
const props = defineProps<{
  flight: Schemas['Flight']
  filling: Schemas['Filling'] | null
  last: number
}>()
const emit = defineEmits<{
  solve: [given: 'speed' | 'rate' | 'litres' | 'full', value: number]
  level: [height: number | null]
  until: []
}>()
const words = computed(() => flightWords(props.flight, props.last))
const fills = computed(() => {
  const f = props.filling
  if (!f || (f.open && !f.walled)) return null
  if (f.open) return `${f.vessel} leaks: it runs out by ${f.open}`
  if (f.frame === null) return `${f.vessel}: ${+f.litres.toPrecision(3)} l missing, never full of this`
  return `${f.vessel} is full of ${+f.litres.toPrecision(3)} l at frame ${f.frame}${f.frame > props.last ? ', after the shot' : ''}`
})
const holds = computed(() => (fills.value && props.filling && !props.filling.open ? props.filling : null))
const round = (v: number) => +v.toPrecision(4)
</script>

<template>
  <div class="stream" role="group" aria-label="Stream">
    <div v-for="(line, i) in words" :key="i" class="n">{{ line }}</div>
    <div v-if="fills" class="n fills">{{ fills }}</div>
    <div class="linked">
      <label>speed</label>
      <NumberField
        label="Speed of the stream"
        unit="m/s"
        :value="round(flight.leaving)"
        @keep="(v) => v && emit('solve', 'speed', v)"
      />
      <label>rate</label>
      <NumberField
        label="Litres a second"
        unit="l/s"
        :value="round(flight.litres_per_second)"
        @keep="(v) => v && emit('solve', 'rate', v)"
      />
      <label>in all</label>
      <NumberField
        label="Litres in all"
        unit="l"
        :value="round(flight.litres)"
        @keep="(v) => v && emit('solve', 'litres', v)"
      />
      <template v-if="holds">
        <label>full after</label>
        <NumberField
          label="Full after"
          unit="s"
          :value="holds.full === null ? null : round(holds.full)"
          nullable
          @keep="(v) => v && emit('solve', 'full', v)"
        />
        <label>up to</label>
        <NumberField
          label="Height to fill to"
          unit="m"
          :value="round(holds.height)"
          nullable
          @keep="(v) => emit('level', v)"
        />
        <button v-if="holds.stops !== null" class="bare until" @click="emit('until')">
          Stop when it is full
        </button>
      </template>
    </div>
  </div>
</template>

<style scoped>
.stream {
  position: absolute;
  right: 14px;
  bottom: 12px;
  text-align: right;
  color: #b8c7c8;
  padding: 6px 8px;
  border-radius: 3px;
  background: #151c20b8;
  pointer-events: none;
}
.fills {
  color: #7fd6b5;
}
.linked {
  display: grid;
  grid-template-columns: auto 92px auto 92px;
  gap: 3px 8px;
  justify-content: end;
  align-items: center;
  margin-top: 5px;
  pointer-events: auto;
  font-size: 11.5px;
}
.until {
  grid-column: 1 / -1;
  justify-self: end;
  color: #3fb7a3;
  text-decoration: underline;
}
</style>
