<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import { bytes } from '../shell/words'

/** What of a delivery is written, and what can be done with it. */
const props = defineProps<{
  take: number
  quality: string
  name: string
  report: Schemas['DeliveryReport'] | undefined
  busy: boolean
}>()
const emit = defineEmits<{ deliver: [name: string] }>()
const address = computed(
  () =>
    `/api/takes/${props.take}/deliveries/${props.quality}/download?name=${encodeURIComponent(props.name)}`,
)
const word = computed(() => {
  const r = props.report
  if (!r) return ''
  const parts = [`${r.current} of ${r.total} files current`]
  if (r.stale) parts.push(`${r.stale} out of date`)
  return `${parts.join(', ')}, ${bytes(r.bytes)}`
})
const points = computed(() => {
  const r = props.report
  if (r?.points == null) return ''
  return `${r.points.toLocaleString('en')} points of whitewater at its fullest, frame ${r.fullest}`
})
</script>

<template>
  <div class="delivery" data-testid="delivery">
    <div class="bar" :class="{ stale: report?.stale }">
      <i :style="{ width: `${report?.total ? (100 * report.current) / report.total : 0}%` }" />
    </div>
    <p class="n dim">{{ word }}</p>
    <p v-if="points" class="n dim">{{ points }}</p>
    <p v-if="report?.bytes" class="n dim where">{{ report.folder }}</p>
    <div class="acts">
      <button class="bare act" :disabled="busy" @click="emit('deliver', name)">Deliver {{ quality }}</button>
      <a v-if="report && report.current + report.stale" :href="address">Download</a>
    </div>
  </div>
</template>

<style scoped>
.delivery {
  margin-top: 6px;
  font-size: 11.5px;
}
.bar {
  height: 5px;
  background: var(--deep);
  margin-bottom: 3px;
}
.bar i {
  display: block;
  height: 100%;
  background: var(--accent);
}
.bar.stale {
  box-shadow: inset 0 0 0 1px var(--brass);
}
.where {
  overflow-wrap: anywhere;
}
.acts {
  display: flex;
  gap: 12px;
  margin-top: 3px;
}
.act {
  border: 1px solid var(--accent);
  border-radius: 2px;
  color: var(--accent);
  padding: 1px 8px;
}
.act:disabled {
  opacity: 0.4;
}
p {
  margin: 0 0 3px;
}
a {
  color: var(--accent);
}
</style>
