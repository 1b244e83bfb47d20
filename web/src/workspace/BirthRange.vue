<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import type { Packed } from '../viewport/packed'
import NumberField from './NumberField.vue'
import { EMPTY } from './useBirths'
import { withValue } from './schema'
import type { SceneDocument } from './useTake'

/** The range of what is shown in which a layer of whitewater is born, by two handles under the bars. */
const props = defineProps<{
  shown: Packed
  by: string
  scene: SceneDocument
  edits: boolean
  /** whether births are seen in the place of the air */
  seen: boolean
  /** frames of life before the one that is seen */
  lived: number
  /** what is wrong with them */
  problem: string
}>()
const emit = defineEmits<{
  keep: [scene: SceneDocument]
  range: [low: number, high: number]
  see: [seen: boolean]
  lived: [frames: number]
  /** the scene as it would be now, while a handle moves too */
  tried: [scene: SceneDocument]
}>()

const WIDTH = 228
const layers = computed(() => (props.scene.whitewater?.layers ?? []) as SceneDocument[])
const chosen = ref(0)
const layer = computed(() => layers.value[Math.min(chosen.value, layers.value.length - 1)])
const all = computed<[number, number]>(() => [props.shown.least ?? 0, props.shown.top ?? 1])
const set = computed(() => ({
  low: layer.value?.[`${props.by}_from`],
  high: layer.value?.[`${props.by}_to`],
}))
const moving = ref<{ end: 'low' | 'high'; value: number } | null>(null)
const range = computed(() => {
  const high = set.value.high ?? Math.max(props.shown.far ?? 1, (set.value.low ?? 0) * 2)
  const found = { low: set.value.low ?? high * EMPTY[props.by], high }
  if (moving.value) found[moving.value.end] = moving.value.value
  return found
})
const share = (value: number) => (value - all.value[0]) / Math.max(all.value[1] - all.value[0], 1e-9)
const at = (value: number) => WIDTH * Math.min(Math.max(share(value), 0), 1)

/** Colours go from where births begin to where they are most. */
watch(
  [() => range.value.low, () => range.value.high, () => props.shown],
  () => layer.value && emit('range', share(range.value.low), share(range.value.high)),
  { immediate: true },
)

function withRange(values: Partial<Record<'low' | 'high', number | null>>): SceneDocument {
  const path = ['whitewater', 'layers', layers.value.indexOf(layer.value)]
  let next = props.scene
  if ('low' in values) next = withValue(next, [...path, `${props.by}_from`], values.low ?? null)
  if ('high' in values) next = withValue(next, [...path, `${props.by}_to`], values.high ?? null)
  return next
}
const keep = (values: Partial<Record<'low' | 'high', number | null>>) => emit('keep', withRange(values))
watch([moving, () => props.scene], () =>
  emit('tried', moving.value ? withRange({ low: range.value.low, high: range.value.high }) : props.scene),
)

function value(event: PointerEvent, end: 'low' | 'high') {
  const box = (event.currentTarget as Element).closest('svg')!.getBoundingClientRect()
  const along = Math.min(Math.max((event.clientX - box.left) / box.width, 0), 1)
  const found = all.value[0] + along * (all.value[1] - all.value[0])
  const apart = 0.01 * (all.value[1] - all.value[0])
  return end === 'low' ? Math.min(found, range.value.high - apart) : Math.max(found, range.value.low + apart)
}
function grab(event: PointerEvent, end: 'low' | 'high') {
  if (!props.edits) return
  ;(event.currentTarget as Element).setPointerCapture(event.pointerId)
  moving.value = { end, value: range.value[end] }
}
function drag(event: PointerEvent) {
  if (moving.value) moving.value = { ...moving.value, value: value(event, moving.value.end) }
}
function drop() {
  if (!moving.value) return
  const { low, high } = range.value
  moving.value = null
  keep({ low: +low.toPrecision(3), high: +high.toPrecision(3) })
}
function nudge(event: KeyboardEvent, end: 'low' | 'high') {
  const way = { ArrowLeft: -1, ArrowRight: 1 }[event.key]
  if (!way || !props.edits) return
  event.preventDefault()
  const next = range.value[end] + 0.02 * way * (all.value[1] - all.value[0])
  if (end === 'low' ? next < range.value.high : next > range.value.low) keep({ [end]: +next.toPrecision(3) })
}
</script>

<template>
  <div v-if="layer" class="births">
    <svg :viewBox="`0 0 ${WIDTH} 14`" width="100%" height="14" preserveAspectRatio="none">
      <rect
        :x="at(range.low)"
        y="0"
        :width="Math.max(at(range.high) - at(range.low), 0)"
        height="4"
        fill="var(--accent)"
        opacity="0.6"
      />
      <rect :x="at(range.high)" y="0" :width="WIDTH - at(range.high)" height="4" fill="var(--accent)" />
      <path
        v-for="end in ['low', 'high'] as const"
        :key="end"
        :d="`M${at(range[end])} 2 l6 11 h-12 z`"
        class="handle"
        role="slider"
        tabindex="0"
        :aria-label="end === 'low' ? 'Births begin at' : 'Births are most at'"
        :aria-valuenow="range[end]"
        :aria-valuemin="all[0]"
        :aria-valuemax="all[1]"
        @pointerdown="grab($event, end)"
        @pointermove="drag"
        @pointerup="drop"
        @pointercancel="moving = null"
        @keydown="nudge($event, end)"
      />
    </svg>
    <div class="row">
      <select v-if="layers.length > 1" v-model="chosen" aria-label="Layer">
        <option v-for="(one, n) in layers" :key="one.name" :value="n">{{ one.name }}</option>
      </select>
      <span v-else class="dim">born</span>
      <NumberField
        :value="+range.low.toPrecision(3)"
        label="Births begin at"
        @keep="(v) => keep({ low: v })"
      />
      <NumberField
        :value="+range.high.toPrecision(3)"
        label="Births are most at"
        @keep="(v) => keep({ high: v })"
      />
      <button
        class="bare"
        title="From this shot's own values"
        :disabled="set.low == null && set.high == null"
        @click="keep({ low: null, high: null })"
      >
        by the shot
      </button>
    </div>
    <label title="Some thousands by chance, as the ranges are now; they do not live yet">
      <input
        type="checkbox"
        :checked="seen"
        @change="emit('see', ($event.target as HTMLInputElement).checked)"
      />
      Births of this frame
      <select
        v-if="seen"
        :value="lived"
        aria-label="How long they have lived"
        title="Of this frame and of those before it, as they live until it"
        @click.stop
        @change="emit('lived', +($event.target as HTMLSelectElement).value)"
      >
        <option :value="0">as they are born</option>
        <option v-for="n in [4, 12, 24]" :key="n" :value="n">and {{ n }} frames lived</option>
      </select>
    </label>
    <p v-if="seen && problem" class="problem" role="alert">{{ problem }}</p>
  </div>
  <p v-else class="dim none">Put in a layer, on the right, to set where it is born.</p>
</template>

<style scoped>
.births {
  margin-top: 4px;
}
svg {
  overflow: visible;
  touch-action: none;
}
.handle {
  fill: var(--accent);
  cursor: ew-resize;
}
.handle:focus-visible {
  outline: 1px solid var(--text);
}
.row {
  display: grid;
  grid-template-columns: auto 1fr 1fr auto;
  gap: 5px;
  align-items: center;
}
.row button {
  color: var(--accent);
  font-size: 11px;
  white-space: nowrap;
}
.row button:disabled {
  color: var(--dim);
}
label {
  display: flex;
  gap: 5px;
  align-items: center;
  margin-top: 3px;
  cursor: pointer;
}
.problem {
  color: var(--coral);
  margin: 2px 0 0;
}
.none {
  margin: 4px 0 2px;
}
</style>
