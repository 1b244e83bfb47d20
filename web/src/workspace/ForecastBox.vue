<script setup lang="ts">
import { computed, ref } from 'vue'

import { client, problemsOf, type Said, type Schemas } from '../api/client'
import SaidList from '../shell/SaidList.vue'
import { bytes, count, duration } from '../shell/words'

/** What a run would cost; a budget that is typed for one of its numbers gives the voxel. */
const props = defineProps<{
  take: number
  forecast: Schemas['ForecastReply']
  stages: Schemas['StageCard'][]
}>()
const emit = defineEmits<{ voxel: [size: number] }>()

type What = 'particles' | 'memory' | 'seconds'
const ASKED: Record<What, [string, number]> = {
  particles: ['thousand particles', 1e3],
  memory: ['MB', 1e6],
  seconds: ['minutes', 60],
}
const typing = ref<What | null>(null)
const problems = ref<Said[]>([])
const now: Record<What, () => number> = {
  particles: () => props.forecast.particles,
  memory: () => props.forecast.memory,
  seconds: () => props.forecast.seconds.likely,
}
const timesTold = computed(() =>
  Object.entries(props.forecast.times)
    .map(([name, t]) => `${props.stages.find((s) => s.name === name)?.title ?? name}: ${duration(t.likely)}`)
    .join(', '),
)

async function give(what: What, event: Event) {
  if (typing.value !== what) return
  typing.value = null
  const value = Number((event.target as HTMLInputElement).value.replace(',', '.')) * ASKED[what][1]
  if (!(value > 0) || Math.abs(value / now[what]() - 1) < 0.005) return
  const { data, error } = await client
    .GET('/api/takes/{take_id}/budget/{quality}', {
      params: { path: { take_id: props.take, quality: props.forecast.quality }, query: { what, value } },
    })
    .catch((error: unknown) => ({ data: undefined, error }))
  problems.value = data ? [] : problemsOf(error)
  if (data) emit('voxel', data.voxel_size)
}
const range = (t: Schemas['TimeReply']) =>
  `${duration(t.likely)}, ${duration(t.least)} to ${duration(t.most)}`
const LINES = computed<[string, What | null, string][]>(() => [
  ['voxel', null, `${+(props.forecast.voxel_size * 1000).toPrecision(3)} mm`],
  ['memory', 'memory', bytes(props.forecast.memory)],
  ['voxels', null, count(props.forecast.voxels)],
  ['disk', null, bytes(props.forecast.disk)],
  ['particles', 'particles', count(props.forecast.particles)],
  ['frames', null, String(props.forecast.frames)],
  ['time', 'seconds', range(props.forecast.seconds)],
])
</script>

<template>
  <div>
    <SaidList :items="problems" bad />
    <div class="forecast n" :class="{ over: !forecast.fits }">
      <template v-for="[name, what, told] in LINES" :key="name">
        <span>{{ name }}</span>
        <b v-if="!what">{{ told }}</b>
        <input
          v-else-if="typing === what"
          :value="+(now[what]() / ASKED[what][1]).toPrecision(3)"
          :aria-label="`Budget of ${name}, ${ASKED[what][0]}`"
          :title="ASKED[what][0]"
          inputmode="decimal"
          autofocus
          @keydown.enter="give(what, $event)"
          @keydown.esc="typing = null"
          @blur="give(what, $event)"
        />
        <button
          v-else
          class="bare"
          :class="name"
          :aria-label="`${name} ${told}; give a budget`"
          :title="`${name === 'time' ? timesTold + '. ' : ''}Press to give a budget in ${ASKED[what][0]}; the voxel follows.`"
          @click="typing = what"
        >
          {{ told }}
        </button>
      </template>
    </div>
  </div>
</template>

<style scoped>
.forecast {
  background: var(--deep);
  border: 1px solid var(--line);
  border-radius: 3px;
  padding: 7px 10px;
  display: grid;
  grid-template-columns: auto 1fr auto 1fr;
  gap: 2px 10px;
}
.forecast.over {
  border-color: var(--coral);
}
span {
  color: var(--dim);
}
b,
button,
input {
  font-weight: 400;
  text-align: right;
}
button {
  border-bottom: 1px dotted var(--dim);
  justify-self: end;
}
input {
  width: 100%;
  color: var(--text);
  background: var(--raise);
  border: 1px solid var(--accent);
}
.time {
  grid-column: 2 / 5;
}
</style>
