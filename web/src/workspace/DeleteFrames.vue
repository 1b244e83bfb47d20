<script setup lang="ts">
import { client, problemsOf, type Said, type Schemas } from '../api/client'
import { bytes, duration } from '../shell/words'

/** Asks before a stage's frames are deleted, with what of work goes. */
const props = defineProps<{
  take: number
  quality: 'draft' | 'proof' | 'final'
  stage: string | null
  report: Schemas['StageReport'] | undefined
}>()
const emit = defineEmits<{ leave: []; deleted: [problems: Said[]] }>()

async function remove() {
  const path = { take_id: props.take, quality: props.quality, stage: props.stage! }
  const { error } = await client
    .DELETE('/api/takes/{take_id}/stages/{quality}/{stage}', { params: { path } })
    .catch((thrown: unknown) => ({ error: thrown }))
  emit('leave')
  emit('deleted', error ? problemsOf(error) : [])
}
</script>

<template>
  <v-dialog :model-value="!!stage" @update:model-value="emit('leave')">
    <div class="panel">
      <h2>Delete the {{ stage }} frames?</h2>
      <p v-if="report">
        {{ bytes(report.bytes) }} of {{ quality }} frames, {{ duration(report.seconds) }} of work. This cannot
        be undone; a run makes them again.
      </p>
      <div class="ends">
        <v-btn @click="emit('leave')">Keep them</v-btn>
        <v-btn color="error" @click="remove">Delete</v-btn>
      </div>
    </div>
  </v-dialog>
</template>
