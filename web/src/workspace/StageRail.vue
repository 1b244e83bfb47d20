<script setup lang="ts">
import type { Schemas } from '../api/client'
import { bytes, duration, label } from '../shell/words'
import Vessel from '../shell/Vessel.vue'

/** The scene and its stages, each a vessel filled to the share of its frames that are current. */
const props = defineProps<{
  stages: Schemas['StageReport'][]
  deliveries: Schemas['DeliveryReport'][]
  elements: number
  part: string
}>()
const emit = defineEmits<{ pick: [part: string] }>()
const sumOf = (what: 'current' | 'stale' | 'total' | 'bytes') =>
  props.deliveries.reduce((sum, d) => sum + d[what], 0)
const countOf = (s: Schemas['StageReport'], state: string) => s.states.filter((t) => t === state).length
function word(s: Schemas['StageReport']): string {
  if (countOf(s, 'failed')) return 'failed'
  if (countOf(s, 'stale')) return 'out of date'
  const current = countOf(s, 'current')
  return current ? `${Math.round((current / s.states.length) * 100)} %` : 'empty'
}
</script>

<template>
  <nav class="rail" aria-label="Stages">
    <button class="bare stage" :class="{ on: part === 'scene' }" @click="emit('pick', 'scene')">
      <svg height="40" viewBox="0 0 34 42" aria-hidden="true">
        <path
          d="M2 4h30l-4 35H6z"
          fill="var(--deep)"
          stroke="var(--dim)"
          stroke-width="1.3"
          stroke-dasharray="3 2.4"
        />
      </svg>
      <span>Scene</span>
      <span class="n dim">{{ elements }} elements</span>
    </button>
    <button
      v-for="s in stages"
      :key="s.stage"
      class="bare stage"
      :class="{ on: part === s.stage }"
      :title="`${bytes(s.bytes)} on disk, ${duration(s.seconds)} of work`"
      @click="emit('pick', s.stage)"
    >
      <Vessel
        :current="countOf(s, 'current')"
        :stale="countOf(s, 'stale')"
        :total="s.states.length"
        :label="label(s.stage)"
      />
      <span>{{ label(s.stage) }}</span>
      <span class="n dim">{{ word(s) }}</span>
      <span v-if="s.bytes" class="n dim">{{ bytes(s.bytes) }}</span>
    </button>
    <button
      class="bare stage"
      :class="{ on: part === 'delivery' }"
      title="Files for who takes over"
      @click="emit('pick', 'delivery')"
    >
      <Vessel :current="sumOf('current')" :stale="sumOf('stale')" :total="sumOf('total')" label="Delivery" />
      <span>Delivery</span>
      <span class="n dim">{{
        sumOf('stale')
          ? 'out of date'
          : sumOf('current')
            ? `${Math.round((sumOf('current') / sumOf('total')) * 100)} %`
            : deliveries.length
              ? 'empty'
              : 'none'
      }}</span>
      <span v-if="sumOf('bytes')" class="n dim">{{ bytes(sumOf('bytes')) }}</span>
    </button>
  </nav>
</template>

<style scoped>
.rail {
  width: 86px;
  border-right: 1px solid var(--line);
  padding: 12px 0;
  display: flex;
  flex-direction: column;
  gap: 8px;
  align-items: center;
}
.stage {
  width: 78px;
  padding: 6px 0 5px;
  display: flex;
  flex-direction: column;
  align-items: center;
  gap: 2px;
  font-size: 12px;
  color: var(--dim);
  border-radius: 3px;
}
.stage .n {
  font-size: 10.5px;
}
.stage.on {
  background: var(--raise);
  color: var(--text);
  box-shadow: inset 2px 0 0 var(--accent);
}
</style>
