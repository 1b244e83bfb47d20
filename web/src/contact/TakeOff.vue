<script setup lang="ts">
import { ref, watch } from 'vue'

import { client, type Schemas } from '../api/client'
import { bytes, duration } from '../shell/words'
import type { Thing } from './useSheet'

/** What goes when something is taken off the sheet. */
const props = defineProps<{ thing: Thing | null }>()
const emit = defineEmits<{ leave: []; remove: [thing: Thing] }>()

const weight = ref<Schemas['Weight'] | null>(null)
watch(
  () => props.thing,
  async (thing) => {
    weight.value = null
    if (!thing) return
    const path = { kind: thing.kind, key: thing.id }
    const reply = await client.GET('/api/sheet/{kind}/{key}/weight', { params: { path } }).catch(() => null)
    weight.value = reply?.data ?? null
  },
)
</script>

<template>
  <v-dialog :model-value="!!thing" max-width="440" @update:model-value="emit('leave')">
    <div v-if="thing" class="panel" data-testid="take-off">
      <h2>Take {{ thing.name }} off the sheet?</h2>
      <p v-if="!weight" class="dim">Weighing it…</p>
      <p v-else-if="weight.frames">
        {{ weight.takes === 1 ? 'One take' : `${weight.takes} takes` }} with
        {{ weight.frames.toLocaleString('en') }} frames, <b class="n">{{ bytes(weight.bytes) }}</b> and
        <b class="n">{{ duration(weight.seconds) }}</b> of work.
      </p>
      <p v-else>
        {{ weight.takes === 1 ? 'One take' : `${weight.takes} takes` }} without frames,
        <span class="n">{{ bytes(weight.bytes) }}</span>.
      </p>
      <p class="dim">For a week it can be taken back, under “Taken off”. Then it is gone, frames and all.</p>
      <div class="ends">
        <v-btn @click="emit('leave')">Leave it</v-btn>
        <v-btn class="go" @click="emit('remove', thing)">Take it off</v-btn>
      </div>
    </div>
  </v-dialog>
</template>
