<script setup lang="ts">
import type { Schemas } from '../api/client'
import { JUDGE, REHEARSE } from './useShown'

/** Over the viewport's upper edge: what is shown, and from where. */
defineProps<{ stages: Schemas['StageCard'][]; mode: string; judges: boolean; rehearses: boolean }>()
const emit = defineEmits<{ see: [name: string]; judge: []; rehearse: []; deliver: []; help: [] }>()
</script>

<template>
  <div class="chip left-chip" role="group" aria-label="What is shown">
    <button
      v-for="s in stages"
      :key="s.name"
      class="bare"
      :class="{ on: mode === s.name }"
      @click="emit('see', s.name)"
    >
      {{ s.seen || s.title }}
    </button>
    <button v-if="judges" class="bare" :class="{ on: mode === JUDGE }" @click="emit('judge')">Judge</button>
    <button
      v-if="rehearses"
      class="bare"
      :class="{ on: mode === REHEARSE }"
      title="See it coarsely while you edit (r)"
      @click="emit('rehearse')"
    >
      Rehearse
    </button>
  </div>
  <div class="chip right-chip" role="group" aria-label="View">
    <slot />
    <button class="bare" @click="emit('deliver')">Deliver</button>
    <button class="bare" aria-label="Keyboard" @click="emit('help')">?</button>
  </div>
</template>

<style scoped>
.chip {
  position: absolute;
  top: 12px;
  display: flex;
  gap: 1px;
  border: 1px solid var(--line);
  border-radius: 3px;
  overflow: hidden;
}
.left-chip {
  left: 12px;
}
.right-chip {
  right: 12px;
}
.chip :slotted(button),
.chip button {
  background: #1a2226e6;
  color: #93a4a9;
  padding: 4px 7px;
  font-size: 12px;
}
.chip :slotted(button):hover,
.chip button.on,
.chip button:hover:not(:disabled) {
  background: #2a363ce6;
  color: #d9e1e1;
}
</style>
