<script setup lang="ts">
import type { Thing } from './useSheet'

/** What can be done with a production, shot or take. */
defineProps<{ thing: Thing; first: boolean; last: boolean }>()
const emit = defineEmits<{
  rename: []
  move: [by: number]
  duplicate: [frames: boolean]
  archive: []
  remove: []
}>()
</script>

<template>
  <v-menu>
    <template #activator="{ props: activator }">
      <button class="bare dots" :aria-label="`More of ${thing.name}`" v-bind="activator">
        <svg width="16" height="16" viewBox="0 0 16 16" aria-hidden="true">
          <path d="M2 5.5h12M2 10.5h7" stroke="currentColor" stroke-width="1.5" fill="none" />
        </svg>
      </button>
    </template>
    <div class="menu">
      <slot />
      <button class="bare" @click="emit('rename')">Rename and describe…</button>
      <button v-if="!first" class="bare" @click="emit('move', -1)">Put before</button>
      <button v-if="!last" class="bare" @click="emit('move', 1)">Put after</button>
      <button class="bare" @click="emit('duplicate', false)">Duplicate</button>
      <button class="bare" @click="emit('duplicate', true)">Duplicate with its frames</button>
      <button class="bare" @click="emit('archive')">
        {{ thing.archived ? 'Out of the archive' : 'Into the archive' }}
      </button>
      <button class="bare" @click="emit('remove')">Take off the sheet…</button>
    </div>
  </v-menu>
</template>

<style scoped>
.dots {
  color: var(--dim);
  padding: 3px 5px;
  border-radius: 3px;
  line-height: 0;
}
.dots:hover,
.dots[aria-expanded='true'] {
  color: var(--text);
  background: var(--raise);
}
</style>
