<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { client, problemsOf, type Said, type Schemas } from '../api/client'
import SaidList from '../shell/SaidList.vue'
import type { SceneDocument } from './useTake'

/** What a sea is by the numbers: its spectrum with what its patches hold, heights asked for and measured, when it folds. */
const props = defineProps<{ take: number; quality: string; scene: SceneDocument }>()
const emit = defineEmits<{ keep: [scene: SceneDocument] }>()

const WIDE = 260
const HIGH = 74
const told = ref<Schemas['SeaTold'] | null>(null)
const problems = ref<Said[]>([])
let asked = 0

async function ask() {
  const mine = ++asked
  const { data, error } = await client
    .POST('/api/takes/{take_id}/waves/{quality}', {
      params: { path: { take_id: props.take, quality: props.quality } },
      body: { scene: props.scene },
    })
    .catch((error: unknown) => ({ data: undefined, error }))
  if (mine !== asked) return // a newer edit has been asked about
  problems.value = data ? [] : problemsOf(error)
  told.value = data ?? null
}
watch([() => JSON.stringify([props.scene.sea, props.scene.time]), () => props.quality], ask, {
  immediate: true,
})

const n = computed(() => told.value?.numbers)
const ends = computed(() => {
  const lengths = told.value?.length ?? [100, 0.1]
  return [Math.log10(lengths[0]), Math.log10(lengths.at(-1)!)]
})
const across = (length: number) =>
  Math.min(Math.max(((Math.log10(length) - ends.value[0]) / (ends.value[1] - ends.value[0])) * WIDE, 0), WIDE)
const line = computed(() => {
  const most = Math.max(...(told.value?.energy ?? [1]), 1e-9)
  return (told.value?.length ?? [])
    .map(
      (l, i) =>
        `${across(l).toFixed(1)},${(HIGH - 4 - (told.value!.energy[i] / most) * (HIGH - 10)).toFixed(1)}`,
    )
    .join(' ')
})
const decades = computed(() => {
  const [from, to] = ends.value
  const found = []
  for (let d = Math.floor(from); d >= to; d--) found.push(10 ** d)
  return found
})
const held = computed(() =>
  (n.value?.patches ?? []).map((p, i) => ({
    nth: i + 1,
    from: across((2 * Math.PI) / p.low),
    to: across((2 * Math.PI) / p.high),
    share: p.share,
  })),
)
const shown = (value?: number) => (value === undefined ? '–' : String(+value.toPrecision(3)))
const percent = (share?: number) => `${(share ?? 0) < 1e-4 ? 0 : +(100 * share!).toPrecision(2)} %`
const metres = (m: number) => (m < 1 ? `${+(100 * m).toPrecision(3)} cm` : `${+m.toPrecision(3)} m`)

function change(sea: Record<string, unknown>) {
  emit('keep', { ...props.scene, sea: { ...props.scene.sea, ...sea } })
}
function begin(name: string) {
  const found = told.value?.presets.find((p) => p.name === name)
  if (found) change({ by: 'height and period', height: found.height, period: found.period, wind: found.wind })
}
/** As choppy as it can be without folding, all patches in proportion. */
function sharpen() {
  const by = 0.97 * n.value!.folds_from
  change({
    sets: props.scene.sea.sets.map((s: { choppiness: number }) => ({
      ...s,
      choppiness: +(s.choppiness * by).toPrecision(3),
    })),
  })
}
const better = computed(
  () => n.value && n.value.size !== n.value.patches[0]?.size && n.value.patches[0].steps < 4,
)
function resize() {
  const [first, ...rest] = props.scene.sea.sets
  change({ sets: [{ ...first, size: n.value!.size }, ...rest] })
}
</script>

<template>
  <section aria-label="The sea by the numbers">
    <h3>By the numbers</h3>
    <select
      v-if="told"
      value=""
      aria-label="A sea to begin with"
      @change="begin(($event.target as HTMLSelectElement).value)"
    >
      <option value="">A sea by Beaufort’s force…</option>
      <option v-for="p in told.presets" :key="p.name" :value="p.name">
        {{ p.name }}: {{ p.height }} m, {{ p.period }} s
      </option>
    </select>
    <SaidList :items="problems" bad />
    <template v-if="told && n">
      <svg
        :viewBox="`0 0 ${WIDE} ${HIGH + 12}`"
        width="100%"
        role="img"
        aria-label="Energy by length of waves, and what each patch holds of it"
      >
        <g v-for="h in held" :key="h.nth">
          <rect :x="h.from" y="0" :width="Math.max(h.to - h.from, 0)" :height="HIGH" class="held" />
          <line :x1="h.from" :x2="h.from" y1="0" :y2="HIGH" class="end" />
          <line :x1="h.to" :x2="h.to" y1="0" :y2="HIGH" class="end" />
          <text :x="(h.from + h.to) / 2" y="9" class="n">{{ percent(h.share) }}</text>
        </g>
        <polyline :points="line" />
        <g v-for="d in decades" :key="d">
          <line :x1="across(d)" :x2="across(d)" :y1="HIGH - 3" :y2="HIGH" class="tick" />
          <text :x="Math.min(Math.max(across(d), 12), WIDE - 14)" :y="HIGH + 10" class="n">
            {{ metres(d) }}
          </text>
        </g>
      </svg>
      <table>
        <tr>
          <td>Significant height</td>
          <td class="n">{{ shown(n.asked.height) }} m</td>
          <td class="dim">{{ shown(n.measured) }} m on the patch; {{ n.state }}</td>
        </tr>
        <tr>
          <td>Peak period</td>
          <td class="n">{{ shown(n.asked.peak) }} s</td>
          <td class="dim">waves of {{ metres(n.longest) }}; {{ shown(n.patches[0]?.steps) }} on the patch</td>
        </tr>
        <tr>
          <td>Left out</td>
          <td class="n">{{ percent(n.too_long + n.too_short) }}</td>
          <td class="dim">{{ percent(n.too_long) }} too long, {{ percent(n.too_short) }} too short</td>
        </tr>
        <tr>
          <td>Folds from</td>
          <td class="n">{{ n.folds_from > 1e5 ? 'never' : `${shown(n.folds_from)} x` }}</td>
          <td class="dim">its choppiness; least Jacobian {{ shown(n.least) }}</td>
        </tr>
        <tr>
          <td>Repeats</td>
          <td class="n">{{ percent(n.repeats) }}</td>
          <td class="dim">alike a patch farther, at the horizon</td>
        </tr>
        <tr>
          <td>Whitecaps</td>
          <td class="n">{{ percent(n.usual) }}</td>
          <td class="dim">of the sea, usually, in this wind</td>
        </tr>
        <tr v-if="n.bent">
          <td>Looping bends</td>
          <td class="n">{{ percent(n.bent) }}</td>
          <td class="dim">of its waves’ frequencies</td>
        </tr>
        <tr v-if="n.waves">
          <td>Hero wave</td>
          <td class="n">1 in {{ shown(n.waves) }}</td>
          <td class="dim">waves is so high</td>
        </tr>
      </table>
      <p>
        <button v-if="n.folds_from < 1e5" class="bare" @click="sharpen">As sharp as it can be</button>
        <button v-if="better" class="bare" @click="resize">Make the patch {{ metres(n.size) }}</button>
      </p>
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
select {
  width: 100%;
  background: var(--deep);
  border: 1px solid var(--line);
  color: var(--text);
  font-size: 12px;
  padding: 2px 4px;
}
table,
p {
  font-size: 12.5px;
  margin: 5px 0;
}
td {
  padding: 0 8px 1px 0;
  vertical-align: baseline;
}
td:first-child,
td.n {
  white-space: nowrap;
}
td.n {
  text-align: right;
}
.dim {
  font-size: 11px;
}
svg {
  display: block;
  margin: 6px 0 0;
  background: var(--deep);
}
polyline {
  fill: none;
  stroke: var(--accent);
  stroke-width: 1.5;
}
.held {
  fill: var(--raise);
}
.end {
  stroke: var(--dim);
  stroke-dasharray: 2 2;
}
.tick {
  stroke: var(--dim);
}
text {
  font-size: 8.5px;
  fill: var(--dim);
  text-anchor: middle;
}
button {
  color: var(--accent);
  font-size: 12px;
  margin-right: 10px;
}
</style>
