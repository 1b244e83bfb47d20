<script setup lang="ts">
import { computed, ref } from 'vue'

import type { Schemas } from '../api/client'
import { duration } from '../shell/words'
import KeyLane from './KeyLane.vue'
import type { SceneDocument } from './useTake'

/** The time line: a row per stage with the truth about its frames, keys, and a chart of readings. */
const props = defineProps<{
  scene: SceneDocument
  stages: Schemas['StageCard'][]
  reports: Schemas['StageReport'][]
  frame: number
  element: number | null
  playing: boolean
  curves: boolean
  making: { stage: string; frame: number } | null
  /** the first frame that what is being dragged would change */
  changing: number | null
}>()
const emit = defineEmits<{
  go: [frame: number]
  toggle: []
  delete: [stage: string]
  keep: [scene: SceneDocument]
  curves: []
  changing: [frame: number | null]
}>()

/** What was measured on frames, of which stage, as the stages name it. */
const measures = computed(() =>
  props.reports.flatMap((r) =>
    r.measures.map((m) => ({
      key: `${r.stage} ${m.name}`,
      stage: r.stage,
      name: m.name,
      label: m.unit ? `${m.label}, ${m.unit}` : m.label,
    })),
  ),
)
const chosen = ref('')
const measure = computed(() => measures.value.find((m) => m.key === chosen.value) ?? measures.value[0])
/** A frame jumps if it differs from the one before by this many times the usual step, and by this share of the range. */
const JUMP = 8
const JUMP_SHARE = 0.15

const first = computed<number>(() => props.scene.time.first)
const last = computed<number>(() => props.scene.time.last)
const length = computed(() => last.value - first.value + 1)
const W = 1000
const x = (n: number) => ((n - first.value) / length.value) * W
const cell = computed(() => W / length.value)

interface Span {
  state: string
  from: number
  to: number
}
function spans(report: Schemas['StageReport']): Span[] {
  const found: Span[] = []
  report.states.forEach((kept, i) => {
    const n = report.first + i
    const state = kept === 'current' && n >= (props.changing ?? Infinity) ? 'stale' : kept
    const before = found.at(-1)
    if (before && before.state === state) before.to = n
    else found.push({ state, from: n, to: n })
  })
  return found.filter((s) => s.state !== 'missing')
}

/** How many frames would be out of date if what is being dragged were left as it is. */
const going = (report: Schemas['StageReport']) =>
  report.states.filter((s, i) => s === 'current' && report.first + i >= (props.changing ?? Infinity)).length

const ticks = computed(() => {
  const step = [1, 2, 5, 6, 12, 24, 48, 120, 240, 500, 1000].find((s) => length.value / s <= 11) ?? 5000
  const out = [first.value]
  for (let n = Math.ceil((first.value + 1) / step) * step; n < last.value - step / 2; n += step) out.push(n)
  return [...out, last.value]
})

const series = computed(() => {
  const { stage, name } = measure.value ?? { stage: '', name: '' }
  const report = props.reports.find((r) => r.stage === stage)
  const points = (report?.readings ?? [])
    .map((r, i) => [first.value + i, r[name]] as const)
    .filter(([, v]) => v !== undefined)
  const values = points.map(([, v]) => v)
  const top = Math.max(...values, 0)
  const low = Math.min(...values, 0)
  const height = (v: number) => 38 - ((v - low) / Math.max(top - low, 1e-9)) * 34
  return { points, top, low, line: points.map(([n, v]) => `${x(n + 0.5)},${height(v)}`).join(' ') }
})
const most = computed(() => farthest((a, b) => a > b))
const least = computed(() => farthest((a, b) => a < b))
function farthest(better: (a: number, b: number) => boolean): number | null {
  const { points } = series.value
  return points.length ? points.reduce((a, b) => (better(b[1], a[1]) ? b : a))[0] : null
}
const jumps = computed(() => {
  const { points, top, low } = series.value
  const steps = points.slice(1).map(([n, v], i) => [n, Math.abs(v - points[i][1])] as const)
  const usual = steps.map(([, d]) => d).sort((a, b) => a - b)[steps.length >> 1] ?? 0
  return steps.filter(([, d]) => d > JUMP * usual && d > JUMP_SHARE * (top - low)).map(([n]) => n)
})
const nextJump = computed(() => jumps.value.find((n) => n > props.frame) ?? jumps.value[0])
const here = computed(() => series.value.points.find(([n]) => n === props.frame)?.[1])
const time = computed(() => ((props.frame - first.value) / props.scene.time.fps).toFixed(2))

const titleOf = (name: string) => props.stages.find((s) => s.name === name)?.title ?? name

const lane = ref<HTMLElement>()
function pick(event: PointerEvent) {
  if (event.type === 'pointermove' && !(event.buttons & 1)) return
  const box = lane.value!.getBoundingClientRect()
  emit('go', first.value + Math.floor(((event.clientX - box.left) / box.width) * length.value))
}
const number = (v: number | undefined) =>
  v === undefined ? '–' : Math.abs(v) >= 1000 ? Math.round(v).toLocaleString('en') : +v.toPrecision(4)
</script>

<template>
  <footer class="strip">
    <div class="transport">
      <div class="buttons">
        <v-btn size="small" aria-label="First frame" @click="emit('go', first)">|‹</v-btn>
        <v-btn size="small" :aria-label="playing ? 'Hold' : 'Play'" @click="emit('toggle')">{{
          playing ? '❚❚' : '▶'
        }}</v-btn>
        <v-btn size="small" aria-label="Last frame" @click="emit('go', last)">›|</v-btn>
        <span class="n now" data-testid="frame">{{ frame }}</span><span class="n dim">/ {{ last }}</span>
      </div>
      <span class="n dim">{{ time }} s, {{ scene.time.fps }} fps</span>
      <label class="reading">
        <select
          :value="measure?.key"
          aria-label="Reading in the chart"
          @change="chosen = ($event.target as HTMLSelectElement).value"
        >
          <optgroup v-for="s in stages" :key="s.name" :label="s.title">
            <option v-for="m in measures.filter((m) => m.stage === s.name)" :key="m.key" :value="m.key">
              {{ m.label }}
            </option>
          </optgroup>
        </select>
      </label>
      <span class="told">
        <span class="n" data-testid="reading">{{ number(here) }}</span>
        <template v-if="most !== null && least !== null">
          <button class="bare" title="Go to the frame with the largest" @click="emit('go', most)">
            most
          </button>
          <button class="bare" title="Go to the frame with the smallest" @click="emit('go', least)">
            least
          </button>
        </template>
        <button
          v-if="jumps.length"
          class="bare warn"
          title="Go to the next frame that differs far more from the one before than others do"
          @click="emit('go', nextJump)"
        >
          {{ jumps.length }} {{ jumps.length === 1 ? 'jump' : 'jumps' }}
        </button>
      </span>
    </div>
    <div class="names">
      <span class="line"></span>
      <span v-for="s in reports" :key="s.stage" class="line">
        {{ titleOf(s.stage) }}
        <button
          class="bare dim small"
          :disabled="!s.bytes"
          :aria-label="`Delete the ${s.stage} frames`"
          :title="`Delete the ${s.stage} frames (${duration(s.seconds)} of work)`"
          @click="emit('delete', s.stage)"
        >
          Delete
        </button>
      </span>
      <span class="line">
        Keys
        <button
          class="bare small curves"
          :aria-pressed="curves"
          title="Their curves over time (m)"
          @click="emit('curves')"
        >
          Curves
        </button>
      </span>
      <span class="line chart">
        Chart
        <span v-if="series.points.length > 1" class="n top" title="Ends of the chart">
          <span>{{ number(series.top) }}</span>
          <span>{{ number(series.low) }}</span>
        </span>
      </span>
    </div>
    <div ref="lane" class="lane" @pointerdown="pick" @pointermove="pick">
      <div class="ticks">
        <span v-for="t in ticks" :key="t" class="n" :style="{ left: `${(x(t + 0.5) / W) * 100}%` }">{{
          t
        }}</span>
      </div>
      <svg
        v-for="s in reports"
        :key="s.stage"
        class="row"
        :viewBox="`0 0 ${W} 18`"
        preserveAspectRatio="none"
        role="img"
        :aria-label="`${s.stage} frames`"
        :data-current="s.states.filter((t) => t === 'current').length"
        :data-stale="s.states.filter((t) => t === 'stale').length"
        :data-going="going(s)"
      >
        <defs>
          <pattern :id="`old-${s.stage}`" width="7" height="18" patternUnits="userSpaceOnUse">
            <rect width="7" height="18" fill="var(--deep)" />
            <path d="M0 18L7 0" stroke="var(--brass)" stroke-width="2.2" />
          </pattern>
        </defs>
        <line :x2="W" y1="9" y2="9" stroke="var(--line)" stroke-width="2" />
        <g v-for="span in spans(s)" :key="span.from">
          <rect
            v-if="span.state === 'current'"
            :x="x(span.from)"
            y="2"
            :width="x(span.to + 1) - x(span.from)"
            height="14"
            fill="var(--accent)"
          />
          <rect
            v-else-if="span.state === 'stale'"
            :x="x(span.from)"
            y="5"
            :width="x(span.to + 1) - x(span.from)"
            height="8"
            :fill="`url(#old-${s.stage})`"
          />
          <path
            v-else
            :d="`M${x(span.from)} 2L${x(span.to + 1)} 16M${x(span.from)} 16L${x(span.to + 1)} 2`"
            stroke="var(--coral)"
            stroke-width="2.5"
          />
        </g>
        <rect
          v-if="making && making.stage === s.stage"
          :x="x(making.frame)"
          y="1.5"
          :width="Math.max(cell, 5)"
          height="15"
          fill="none"
          stroke="var(--text)"
          stroke-width="1.5"
        />
      </svg>
      <KeyLane
        :scene="scene"
        :element="element"
        @keep="(next) => emit('keep', next)"
        @go="(n) => emit('go', n)"
        @changing="(n) => emit('changing', n)"
      />
      <svg
        class="row chart"
        :viewBox="`0 0 ${W} 40`"
        preserveAspectRatio="none"
        role="img"
        :aria-label="measure?.label ?? 'Chart'"
      >
        <path
          v-for="n in jumps"
          :key="n"
          :d="`M${x(n + 0.5)} 0V40`"
          stroke="var(--coral)"
          stroke-width="1"
          vector-effect="non-scaling-stroke"
        />
        <polyline
          :points="series.line"
          fill="none"
          stroke="var(--brass)"
          stroke-width="1.4"
          vector-effect="non-scaling-stroke"
        />
      </svg>
      <div class="head" :style="{ left: `${(x(frame + 0.5) / W) * 100}%` }" />
    </div>
  </footer>
</template>

<style scoped>
.told {
  display: flex;
  gap: 9px;
  align-items: baseline;
  font-size: 12px;
}
.told button {
  color: var(--accent);
}
.told .warn {
  color: var(--coral);
}
.strip {
  background: var(--pane);
  border-top: 1px solid var(--line);
  display: grid;
  grid-template-columns: 216px 104px 1fr;
  min-width: 0;
}
.transport {
  padding: 8px 14px;
  border-right: 1px solid var(--line);
  display: flex;
  flex-direction: column;
  gap: 6px;
}
.buttons {
  display: flex;
  align-items: baseline;
  gap: 5px;
}
.buttons .v-btn {
  min-width: 34px;
  padding: 0;
}
.now {
  font-size: 17px;
  margin-left: 6px;
}
.buttons .n {
  white-space: nowrap;
}
select {
  background: var(--deep);
  border: 1px solid var(--line);
  color: var(--text);
  border-radius: 2px;
  font-size: 12px;
  padding: 1px 4px;
}
.names {
  padding: 4px 8px 0 12px;
}
.line {
  height: 22px;
  display: flex;
  justify-content: space-between;
  align-items: center;
  font-size: 12px;
}
.line .small {
  font-size: 11px;
  opacity: 0;
}
.line .curves {
  opacity: 1;
  color: var(--accent);
}
.line:hover .small:not(:disabled),
.line .small:focus-visible {
  opacity: 1;
}
.lane {
  position: relative;
  margin: 4px 16px 0 4px;
  cursor: ew-resize;
  touch-action: none;
}
.ticks {
  position: relative;
  height: 22px;
}
.ticks span {
  position: absolute;
  transform: translateX(-50%);
  color: var(--dim);
  font-size: 11px;
}
.row {
  display: block;
  width: 100%;
  height: 18px;
  margin-bottom: 4px;
}
.row.chart {
  height: 40px;
}
.line.chart {
  height: 40px;
  align-items: flex-start;
}
.top {
  display: flex;
  flex-direction: column;
  justify-content: space-between;
  align-items: flex-end;
  height: 40px;
  font-size: 10px;
  color: var(--brass);
}
.head {
  position: absolute;
  top: 18px;
  bottom: 0;
  width: 1px;
  background: var(--text);
  pointer-events: none;
}
.head::before {
  content: '';
  position: absolute;
  left: -4px;
  top: 0;
  border: 4px solid transparent;
  border-top: 6px solid var(--text);
}
.reading select {
  width: 100%;
}
</style>
