<script setup lang="ts">
import type { Said, Schemas } from '../api/client'

/** Problems, remarks and advice: what they are about, what is so, what it leads to, and what mends it. */
defineProps<{ items: Said[]; bad?: boolean; asides?: boolean }>()
const emit = defineEmits<{
  remedy: [remedy: Schemas['Remedy']]
  show: [where: Schemas['Show']]
  aside: [said: Said]
}>()

/** The setting in words: `elements[2].shape.file` of a named element is its shape file. */
function place(said: Said): string {
  const path = said.element ? said.where.replace(/^\w+\[\d+\]\.?/, '') : said.where
  return path.replaceAll('.', ' ').replaceAll('_', ' ')
}
</script>

<template>
  <p
    v-for="said in items"
    :key="said.where + said.says"
    class="sentence"
    :class="{ bad }"
    :role="bad ? 'alert' : undefined"
  >
    <b v-if="said.element">{{ said.element }}</b><template v-if="said.element && place(said)">, </template
    >{{ place(said) }}<template v-if="said.element || place(said)">: </template>{{ said.says
    }}<template v-if="said.leads_to">: {{ said.leads_to }}</template>
    <button v-if="said.remedy" class="bare apply" @click="emit('remedy', said.remedy)">
      {{ said.remedy.label }}
    </button>
    <button v-if="said.show" class="bare apply" @click="emit('show', said.show)">Show</button>
    <button
      v-if="asides && said.rule"
      class="bare apply aside"
      title="Not said again in this take"
      @click="emit('aside', said)"
    >
      Put aside
    </button>
  </p>
</template>

<style scoped>
.apply {
  color: var(--accent);
  text-decoration: underline;
  margin-left: 6px;
}
.aside {
  color: var(--dim);
}
</style>
