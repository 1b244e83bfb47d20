<script setup lang="ts">
import { ref, watch } from 'vue'

import { client, problemsOf, type Said, type Schemas } from '../api/client'
import SaidList from '../shell/SaidList.vue'
import type { Kind } from './useSheet'

/** What was taken off in the last week, and can be taken back. */
const open = defineModel<boolean>({ required: true })
const props = defineProps<{ restore: (kind: Kind, id: number) => Promise<unknown> }>()

const gone = ref<Schemas['Removed'][] | null>(null)
const problems = ref<Said[]>([])
async function load() {
  const { data, error } = await client
    .GET('/api/removed')
    .catch((error: unknown) => ({ data: undefined, error }))
  problems.value = data ? [] : problemsOf(error)
  gone.value = data ?? gone.value
}
watch(open, (is) => is && void load())

async function back(one: Schemas['Removed']) {
  await props.restore(one.kind, one.id)
  await load()
}
const day = (moment: string) => moment.slice(0, 16).replace('T', ' ')
</script>

<template>
  <v-dialog v-model="open" max-width="560">
    <div class="panel">
      <h2>Taken off the sheet</h2>
      <SaidList :items="problems" bad />
      <p v-if="!gone" class="dim">Looking…</p>
      <p v-else-if="!gone.length" class="dim">Nothing in the last week.</p>
      <div v-for="one in gone ?? []" :key="`${one.kind}${one.id}`" class="one">
        <div>
          <b>{{ one.name }}</b>
          <span class="dim">{{ one.kind }}{{ one.where ? ` of ${one.where}` : '' }}</span>
          <div class="n dim">until {{ day(one.until) }}</div>
        </div>
        <v-btn @click="back(one)">Take it back</v-btn>
      </div>
      <div class="ends"><v-btn @click="open = false">Close</v-btn></div>
    </div>
  </v-dialog>
</template>

<style scoped>
.one {
  display: flex;
  justify-content: space-between;
  align-items: center;
  padding: 8px 0;
  border-top: 1px solid var(--line);
}
</style>
