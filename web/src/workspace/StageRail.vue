<script setup lang="ts">
import { bytes } from '../shell/words'
import Vessel from '../shell/Vessel.vue'

export interface Filled {
  name: string
  title: string
  told: string
  empty: string
  current: number
  stale: number
  failed: number
  total: number
  bytes: number
}

/** The scene and what is made of it, each a vessel filled to the share that is current. */
defineProps<{ vessels: Filled[]; elements: number; part: string }>()
const emit = defineEmits<{ pick: [part: string] }>()
function word(v: Filled): string {
  if (v.failed) return 'failed'
  if (v.stale) return 'out of date'
  return v.current ? `${Math.round((v.current / v.total) * 100)} %` : v.empty
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
      v-for="v in vessels"
      :key="v.name"
      class="bare stage"
      :class="{ on: part === v.name }"
      :title="v.told"
      @click="emit('pick', v.name)"
    >
      <Vessel :current="v.current" :stale="v.stale" :total="v.total" :label="v.title" />
      <span>{{ v.title }}</span>
      <span class="n dim">{{ word(v) }}</span>
      <span v-if="v.bytes" class="n dim">{{ bytes(v.bytes) }}</span>
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
  overflow-y: auto; /* many stages in a low window */
  scrollbar-width: thin;
}
.stage {
  flex: none;
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
