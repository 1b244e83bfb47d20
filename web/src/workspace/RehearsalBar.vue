<script setup lang="ts">
import type { Rehearsal } from './useRehearsal'

/** What the rehearsal shows, at which voxel and how fast. */
defineProps<{ told: Rehearsal | null; rate: number; keeps: boolean }>()
const held = defineModel<boolean>('held', { required: true })
const emit = defineEmits<{ keep: []; leave: [] }>()
const mm = (metres: number, digits: number) => +(metres * 1000).toPrecision(digits)
</script>

<template>
  <div class="rehearsal" role="status" aria-label="Rehearsal">
    <template v-if="told">
      <span class="n" :title="`Nothing thinner than ${mm(2 * told.voxel, 2)} mm is seen; a run shows it.`"
        >{{ mm(told.voxel, 3) }} mm voxel</span
      >
      <span class="n dim">{{ rate.toFixed(1) }} frames/s</span>
    </template>
    <span v-else class="dim">Making the coarse liquid ready…</span>
    <button class="bare" @click="held = !held">{{ held ? 'Follow edits' : 'Hold (h)' }}</button>
    <button v-if="keeps" class="bare" @click="emit('keep')">Keep this as a draft</button>
    <button class="bare" @click="emit('leave')">Leave</button>
  </div>
</template>

<style scoped>
.rehearsal {
  white-space: nowrap;
  position: absolute;
  top: 54px;
  left: 82px;
  display: flex;
  gap: 14px;
  align-items: center;
  font-size: 12px;
  color: #d9e1e1;
  text-shadow: 0 0 4px #0d1214;
}
.dim {
  color: #93a4a9;
}
button {
  color: #7fd6b5;
}
</style>
