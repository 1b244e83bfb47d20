<script setup lang="ts">
import { ref, watch } from 'vue'

import { client, problemsOf, type Said, type Schemas } from '../api/client'
import SaidList from '../shell/SaidList.vue'
import NumberField from './NumberField.vue'
import type { SceneDocument } from './useTake'

/** What decides the look of a source's liquid: numbers of a length and a speed, and what they mean. */
const props = defineProps<{ take: number; quality: string; element: number; scene: SceneDocument }>()

const length = ref<number | null>(null)
const speed = ref<number | null>(null)
const told = ref<Schemas['Regime'] | null>(null)
const problems = ref<Said[]>([])
let asked = 0

/** Of the scene as it is on the page; what was asked before the newest question is not shown. */
async function ask() {
  const mine = ++asked
  const { data, error } = await client
    .POST('/api/takes/{take_id}/regime/{quality}', {
      params: { path: { take_id: props.take, quality: props.quality } },
      body: {
        scene: props.scene,
        element: props.element,
        length: length.value,
        speed: speed.value,
        frame: null,
      },
    })
    .catch((error: unknown) => ({ data: undefined, error }))
  if (mine !== asked) return
  problems.value = data ? [] : problemsOf(error)
  told.value = data ?? null
}
watch(
  () => props.element,
  () => (length.value = speed.value = told.value = null),
)
watch([() => props.scene, () => props.element, () => props.quality, length, speed], ask, { immediate: true })
const round = (value?: number) => (value === undefined ? null : +value.toPrecision(3))
const shown = (value: number | null) => (value === null ? '–' : String(+value.toPrecision(3)))
</script>

<template>
  <section aria-label="Numbers behind the look">
    <h3>Numbers behind the look</h3>
    <div class="pair">
      <label title="Of a drop, a stream, a film: what you look at">Something so thick</label>
      <NumberField
        label="So thick"
        unit="m"
        :value="length ?? round(told?.length)"
        nullable
        @keep="(v) => (length = v)"
      />
      <label>that goes</label>
      <NumberField
        label="So fast"
        unit="m/s"
        :value="speed ?? round(told?.speed)"
        nullable
        @keep="(v) => (speed = v)"
      />
    </div>
    <p v-if="told?.taken" class="dim">
      Of {{ told.taken }}. Type others; an emptied field takes its own again.
    </p>
    <SaidList :items="problems" bad />
    <template v-if="told">
      <table>
        <tr v-for="n in told.numbers" :key="n.name" :title="n.compares">
          <td>{{ n.name }}</td>
          <td class="n">{{ shown(n.value) }}</td>
          <td class="dim">{{ n.compares }}</td>
        </tr>
      </table>
      <p v-for="says in told.says" :key="says">{{ says }}</p>
    </template>
  </section>
</template>

<style scoped>
h3 {
  font-size: 11px;
  font-weight: 600;
  color: var(--dim);
  margin: 8px 0 3px;
}
p,
table {
  font-size: 12.5px;
  margin: 5px 0;
}
td {
  padding: 0 8px 1px 0;
  white-space: nowrap;
}
td.n {
  text-align: right;
}
.dim {
  font-size: 11px;
  white-space: normal;
}
.pair {
  display: grid;
  grid-template-columns: 1fr 100px;
  gap: 3px 8px;
  align-items: center;
  font-size: 12.5px;
}
</style>
