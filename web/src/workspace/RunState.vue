<script setup lang="ts">
import { duration, label } from '../shell/words'
import type { RunEvent } from '../shell/useEvents'

/** In the top bar: what runs and how far it is, whether the solver is ready, whether edits are kept. */
defineProps<{ run: RunEvent | null; active: boolean; readiness: string; saving: string }>()
</script>

<template>
  <span v-if="saving === 'waiting'" class="dim" role="status">Keeping…</span>
  <span v-else-if="saving === 'failing'" class="failed" role="alert"
    >Not kept yet: the server does not answer. Trying again…</span
  >
  <span v-if="readiness && !run?.message" class="dim" role="status">{{ readiness }}</span>
  <div v-if="active && run" class="run" role="status">
    <span v-if="run.message" class="message" :title="run.message">{{ run.message }}</span>
    <template v-if="!run.message || run.done">
      <span>{{ run.delivery || (run.stage ? label(run.stage) : 'Waiting') }}</span>
      <div class="bar"><i :style="{ width: `${run.total ? (100 * run.done) / run.total : 0}%` }" /></div>
      <span class="n">{{ run.done }} / {{ run.total }}</span>
      <span v-if="run.seconds_left" class="dim">{{ duration(run.seconds_left) }} left</span>
    </template>
  </div>
  <span v-else-if="run?.status === 'failed'" class="failed" :title="run.message">{{ run.message }}</span>
</template>

<style scoped>
.run {
  display: flex;
  align-items: center;
  gap: 10px;
  border: 1px solid var(--line);
  border-radius: 3px;
  padding: 4px 10px;
  background: var(--raise);
  white-space: nowrap;
}
.bar {
  width: 100px;
  height: 5px;
  background: var(--deep);
}
.bar i {
  display: block;
  height: 100%;
  background: var(--accent);
}
.message {
  max-width: 340px;
  overflow: hidden;
  text-overflow: ellipsis;
}
.failed {
  color: var(--coral);
  max-width: 340px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
</style>
