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
/** What is kept of the liquid's numbers, and the power of the size that times then go by. */
const SIMILAR = {
  froude: { title: 'Froude', of: 'weight and waves', time: 0.5 },
  weber: { title: 'Weber', of: 'tension and drops', time: 1.5 },
  reynolds: { title: 'Reynolds', of: 'viscosity', time: 2 },
} as const
const keeps = ref<keyof typeof SIMILAR>('froude')
const time = computed(() => SIMILAR[keeps.value].time)
const factor = computed(() =>
  lasts.value && should.value ? (should.value / lasts.value) ** (1 / time.value) : null,
)
/** The other numbers of the same liquid, with the powers of the size that they go by. */
const others = computed(() =>
  [
    { name: 'froude', by: 0.5 - time.value },
    { name: 'reynolds', by: 2 - time.value },
    { name: 'weber', by: 3 - 2 * time.value },
  ].filter((n) => n.name !== keeps.value),
)
const longest = computed(() => Math.max(...(props.scene.domain.size as number[])))
/** By how much a number without a unit changes with the size, told in words. */
function changes(power: number) {
  const by = factor.value! ** power
  return by >= 1 ? `${+by.toPrecision(3)} times` : `1/${+(1 / by).toPrecision(3)} of`
}
async function rescale(alike: boolean) {
  const { data, error } = await client
    .GET('/api/takes/{take_id}/lasting', {
      params: {
        path: path.value,
        query: { action: lasts.value!, seconds: should.value!, alike, keeps: keeps.value },
      },
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
      <label for="keeps">keeping what decides</label>
      <select id="keeps" v-model="keeps" title="What the liquid's look hangs on, that is to stay">
        <option v-for="(s, name) in SIMILAR" :key="name" :value="name">{{ s.of }} ({{ s.title }})</option>
      </select>
    </div>
    <p v-if="factor" role="status">
      Everything <span class="n">{{ +factor.toPrecision(4) }}</span> times as large, the domain
      <span class="n">{{ +(longest * factor).toPrecision(3) }} m</span> instead of
      <span class="n">{{ +longest.toPrecision(3) }} m</span>; times
      <span class="n">{{ +(factor ** time).toPrecision(4) }}</span> times, speeds
      <span class="n">{{ +(factor ** (1 - time)).toPrecision(4) }}</span> times. The
      {{ SIMILAR[keeps].title }} number stays. With the same liquid and gravity
      <template v-for="(n, i) in others" :key="n.name">
        {{ i ? ', and ' : '' }}the {{ SIMILAR[n.name as keyof typeof SIMILAR].title }} number becomes
        {{ changes(n.by) }} what it was</template
      >.
      <template v-if="keeps === 'froude'">
        Viscosity and surface tension show {{ factor > 1 ? 'less' : 'more' }}. To look alike it has to be
        another liquid, with {{ changes(1.5) }} the viscosity and {{ changes(2) }} the tension.
      </template>
      <template v-else> Weight shows {{ factor > 1 ? 'more' : 'less' }}. </template>
      <button class="bare apply" @click="rescale(false)">Make it so</button>
      <button v-if="keeps === 'froude'" class="bare apply" @click="rescale(true)">
        With a liquid that looks alike
      </button>
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
.pair select {
  grid-column: 1 / -1;
}
.apply {
  color: var(--accent);
  text-decoration: underline;
  margin-right: 8px;
}
</style>
