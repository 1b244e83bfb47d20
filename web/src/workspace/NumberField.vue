<script setup lang="ts">
import { computed, ref, watch } from 'vue'

/** A number with its unit and, where it has a range, a slider. Enter or leaving the field keeps it. */
const props = defineProps<{
  value: number | null
  unit?: string
  label: string
  slider?: [number, number] | null
  log?: boolean
  whole?: boolean
  nullable?: boolean
}>()
const emit = defineEmits<{ keep: [value: number | null] }>()

const text = ref('')
let typed = false // and not kept yet: an answer that comes meanwhile does not take it away
const show = () =>
  (text.value = props.value === null || props.value === undefined ? '' : String(+props.value.toPrecision(6)))
watch(
  () => props.value,
  () => typed || show(),
  { immediate: true },
)

function leave() {
  typed = false
  show()
}

function keep() {
  typed = false
  const trimmed = text.value.trim()
  if (trimmed === '' && props.nullable) return props.value === null || emit('keep', null)
  const n = Number(trimmed.replace(',', '.'))
  if (!Number.isFinite(n) || trimmed === '') {
    show()
    return
  }
  const kept = props.whole ? Math.round(n) : n
  if (kept !== props.value) emit('keep', kept)
  else show()
}

const share = computed(() => {
  if (!props.slider || props.value === null) return 0
  const [low, high] = props.slider
  const s = props.log
    ? Math.log(Math.max(props.value, low) / low) / Math.log(high / low)
    : (props.value - low) / (high - low)
  return Math.min(Math.max(s, 0), 1) * 1000
})

function slide(event: Event) {
  typed = true
  const [low, high] = props.slider!
  const s = Number((event.target as HTMLInputElement).value) / 1000
  const v = props.log ? low * (high / low) ** s : low + (high - low) * s
  text.value = String(props.whole ? Math.round(v) : +v.toPrecision(3))
}
</script>

<template>
  <div class="number" :class="{ slid: slider }">
    <input
      v-if="slider"
      type="range"
      min="0"
      max="1000"
      :value="share"
      :aria-label="`${label}, slider`"
      @input="slide"
      @change="keep"
    />
    <label class="box">
      <input
        v-model="text"
        class="n"
        inputmode="decimal"
        :aria-label="label"
        @input="typed = true"
        @change="keep"
        @keydown.enter="keep"
        @keydown.esc="leave"
        @blur="leave"
      />
      <em v-if="unit">{{ unit }}</em>
    </label>
  </div>
</template>

<style scoped>
.number {
  display: flex;
  align-items: center;
  gap: 8px;
  min-width: 0;
}
.box {
  display: flex;
  align-items: baseline;
  background: var(--deep);
  border: 1px solid var(--line);
  border-radius: 2px;
  padding: 1px 6px;
  width: 92px;
  flex: none;
}
.number:not(.slid) .box {
  width: 100%;
  min-width: 0;
  flex: 1;
}
.box input {
  width: 100%;
  min-width: 0;
  text-align: right;
  background: none;
  border: 0;
  outline: 0;
  color: var(--text);
}
.box:focus-within {
  border-color: var(--accent);
}
em {
  font-style: normal;
  font-size: 11px;
  color: var(--dim);
  margin-left: 3px;
  white-space: nowrap;
}
input[type='range'] {
  flex: 1;
  min-width: 0;
  appearance: none;
  height: 3px;
  background: var(--line);
  border-radius: 2px;
}
input[type='range']::-webkit-slider-thumb {
  appearance: none;
  width: 5px;
  height: 13px;
  border-radius: 1px;
  background: var(--text);
}
</style>
