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
      <svg height="26" viewBox="0 0 34 42" aria-hidden="true">
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
      <span class="held">
        <Vessel :current="v.current" :stale="v.stale" :total="v.total" :label="v.title" :height="30" />
        <span class="n dim" :class="{ alone: !v.bytes }">
          {{ word(v) }}<template v-if="v.bytes && !v.stale"><br />{{ bytes(v.bytes) }}</template>
        </span>
      </span>
      <span>{{ v.title }}</span>
    </button>
  </nav>
</template>

<style scoped>
.rail {
  width: 86px;
  border-right: 1px solid var(--line);
  padding: 8px 0;
  display: flex;
  flex-direction: column;
  gap: 3px;
  align-items: center;
  overflow-y: auto; /* many stages in a low window */
  scrollbar-width: thin;
}
.stage {
  flex: none;
  width: 78px;
  padding: 4px 0 3px;
  display: flex;
  flex-direction: column;
  align-items: center;
  gap: 2px;
  font-size: 12px;
  color: var(--dim);
  border-radius: 3px;
}
.held {
  display: flex;
  gap: 5px;
  align-items: center;
  text-align: left;
  line-height: 1.25;
}
.held .alone {
  max-width: 46px;
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
