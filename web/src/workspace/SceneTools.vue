<script setup lang="ts">
import { computed, ref } from 'vue'

import { client, problemsOf, type Said, type Schemas } from '../api/client'
import SaidList from '../shell/SaidList.vue'
import { count } from '../shell/words'
import NumberField from './NumberField.vue'
import type { SceneDocument } from './useTake'

/** What is done to the scene as a whole: a domain that fits, and the size at which an action lasts as long as wanted. */
const props = defineProps<{ take: number; quality: string; scene: SceneDocument }>()
const emit = defineEmits<{ keep: [scene: SceneDocument] }>()

const fits = ref<Schemas['Fitted'] | null>(null)
const problems = ref<Said[]>([])
const path = computed(() => ({ take_id: props.take }))

async function fit() {
  const { data, error } = await client
    .GET('/api/takes/{take_id}/fit/{quality}', {
      params: { path: { ...path.value, quality: props.quality } },
    })
    .catch((error: unknown) => ({ data: undefined, error }))
  problems.value = data === undefined ? problemsOf(error) : []
  fits.value = data ?? null
}
function useFit() {
  const { low, size } = fits.value!
  emit('keep', { ...structuredClone(props.scene), domain: { ...props.scene.domain, low, size } })
  fits.value = null
}
const saves = computed(() => {
  const { voxels, before } = fits.value!
  const by = Math.round(100 * (voxels / before - 1))
  const share = by < 0 ? `${-by} % fewer` : by > 0 ? `${by} % more` : 'as many'
  return `${count(before)} voxels would be ${count(voxels)}, ${share}`
})

const lasts = ref<number | null>(null)
const should = ref<number | null>(null)
const factor = computed(() => (lasts.value && should.value ? (should.value / lasts.value) ** 2 : null))
const longest = computed(() => Math.max(...(props.scene.domain.size as number[])))
async function rescale() {
  const { data, error } = await client
    .GET('/api/takes/{take_id}/lasting', {
      params: { path: path.value, query: { action: lasts.value!, seconds: should.value! } },
    })
    .catch((error: unknown) => ({ data: undefined, error }))
  problems.value = data ? [] : problemsOf(error)
  if (!data) return
  emit('keep', data.scene)
  lasts.value = should.value = null
}
</script>

<template>
  <section class="tools">
    <SaidList :items="problems" bad />
    <h3>Size</h3>
    <p v-if="!fits"><button class="bare apply" @click="fit">Fit the domain to what it holds</button></p>
    <p v-else role="status">
      <span class="n">{{ fits.size.map((s) => +s.toPrecision(3)).join(' × ') }} m</span>: {{ saves }}.
      <button class="bare apply" @click="useFit">Use it</button>
      <button class="bare dim" @click="fits = null">Leave it</button>
    </p>
    <p class="dim">How long should it last?</p>
    <div class="pair">
      <label>An action that lasts</label>
      <NumberField label="Lasts now" unit="s" :value="lasts" nullable @keep="(v) => (lasts = v)" />
      <label>should last</label>
      <NumberField label="Should last" unit="s" :value="should" nullable @keep="(v) => (should = v)" />
    </div>
    <p v-if="factor" role="status">
      Everything <span class="n">{{ +factor.toPrecision(4) }}</span> times as large, the domain
      <span class="n">{{ +(longest * factor).toPrecision(3) }} m</span> instead of
      <span class="n">{{ +longest.toPrecision(3) }} m</span>; times and speeds
      <span class="n">{{ +Math.sqrt(factor).toPrecision(4) }}</span> times, the liquid itself as it is.
      <button class="bare apply" @click="rescale">Make it so</button>
    </p>
  </section>
</template>

<style scoped>
h3 {
  font-size: 11px;
  font-weight: 600;
  color: var(--dim);
  margin: 8px 0 3px;
}
p {
  font-size: 12.5px;
  margin: 3px 0;
}
.pair {
  display: grid;
  grid-template-columns: 1fr 100px;
  gap: 3px 8px;
  align-items: center;
  font-size: 12.5px;
}
.apply {
  color: var(--accent);
  text-decoration: underline;
  margin-right: 8px;
}
</style>
