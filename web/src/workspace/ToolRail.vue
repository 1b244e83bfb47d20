<script setup lang="ts">
import type { Way } from '../viewport/handles'
import { TOOLS } from './tools'
import type { Tool } from './usePlacing'

/** Tools at the viewport's edge: what puts things in, how handles act, and whether moving sets keys. */
defineProps<{ tool: Tool | null; way: Way; own: boolean; recording: boolean; picked: boolean }>()
const emit = defineEmits<{ take: [tool: Tool | null]; way: [way: Way]; own: []; record: [] }>()

const WAYS: [Way, string, string, string][] = [
  ['translate', '1', 'Move', 'M10 2v16M2 10h16M10 2l-2 2M10 2l2 2M18 10l-2-2M18 10l-2 2'],
  ['rotate', '2', 'Turn', 'M16 6a7 7 0 1 0 1 6M16 2v4h-4'],
  ['scale', '3', 'Scale', 'M3 17V9h8v8zM11 9l6-6M13 3h4v4'],
]
</script>

<template>
  <div class="tools" role="toolbar" aria-label="Tools" aria-orientation="vertical">
    <button
      v-for="[name, letter, words, path] in TOOLS"
      :key="name"
      class="bare"
      :class="{ on: tool === name }"
      :aria-pressed="tool === name"
      :aria-label="`${words.split(':')[0]} tool`"
      :title="`${words} (${letter})`"
      @click="emit('take', tool === name ? null : name)"
    >
      <svg viewBox="0 0 20 20" aria-hidden="true"><path :d="path" /></svg>
    </button>
    <template v-if="picked">
      <i />
      <button
        v-for="[name, letter, words, path] in WAYS"
        :key="name"
        class="bare"
        :class="{ on: way === name }"
        :aria-pressed="way === name"
        :aria-label="words"
        :title="`${words} what is picked; Ctrl for steps, type a number while dragging (${letter})`"
        @click="emit('way', name)"
      >
        <svg viewBox="0 0 20 20" aria-hidden="true"><path :d="path" /></svg>
      </button>
      <button class="bare word" :title="'Axes of the scene, or its own (l)'" @click="emit('own')">
        {{ own ? 'own' : 'scene' }}
      </button>
      <button
        class="bare"
        :class="{ recording }"
        :aria-pressed="recording"
        aria-label="Record keys"
        title="While this is on, moving something sets keys (k)"
        @click="emit('record')"
      >
        <svg viewBox="0 0 20 20" aria-hidden="true"><path d="M10 4l6 6-6 6-6-6z" /></svg>
      </button>
    </template>
  </div>
</template>

<style scoped>
.tools {
  position: absolute;
  left: 12px;
  top: 50px;
  display: flex;
  flex-wrap: wrap;
  width: 58px;
  gap: 2px;
  border-radius: 3px;
  background: #1a222699; /* seen over a bright sky too */
}
button {
  width: 28px;
  height: 28px;
  border-radius: 3px;
  color: #93a4a9;
  display: flex;
  align-items: center;
  justify-content: center;
}
button:hover {
  color: #d9e1e1;
  background: #1a2226b0;
}
button.on {
  color: #08211d;
  background: #3fb7a3;
}
button.recording svg path {
  fill: #ee7563;
  stroke: #ee7563;
}
.word {
  font-size: 10px;
}
i {
  flex-basis: 100%;
  height: 1px;
  margin: 4px 6px;
  background: #2e393f;
}
svg {
  width: 18px;
  height: 18px;
}
path {
  fill: none;
  stroke: currentColor;
  stroke-width: 1.4;
  stroke-linejoin: round;
  stroke-linecap: round;
}
</style>
