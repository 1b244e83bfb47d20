<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, ref, shallowRef, toRef, watch } from 'vue'

import { numberOf, slopesOf, valueOf } from './curves'
import NumberField from './NumberField.vue'
import { useCurveEdits, type Dot, type Line } from './useCurveEdits'
import type { SceneDocument } from './useTake'

/** Curves over time: keys dragged in time and value, typed, copied, stretched, with slopes of their own. */
const props = defineProps<{ scene: SceneDocument; picked: number[]; frame: number }>()
const emit = defineEmits<{
  keep: [scene: SceneDocument]
  go: [frame: number]
  close: []
  changing: [frame: number | null]
}>()

const preview = shallowRef<SceneDocument | null>(null) // while something is dragged
const scene = computed(() => preview.value ?? props.scene)
const edits = useCurveEdits(scene, toRef(props, 'picked'), toRef(props, 'frame'), (next) =>
  emit('keep', next),
)
const base = useCurveEdits(toRef(props, 'scene'), toRef(props, 'picked'), toRef(props, 'frame'), () => {})
const { lines, seen, dots, chosen, chosenDots, idOf, fps, now } = edits

// lines that stay level are not drawn until they are asked for
watch(
  () => base.lines.value.map((l) => l.id).join(),
  () => {
    const level = base.lines.value.filter((l) => {
      const values = l.curve.keys.map((k) => numberOf(k.value, l.part))
      return l.curve.width > 1 && Math.max(...values) - Math.min(...values) < 1e-9
    })
    edits.off.value = base.off.value = new Set(level.map((l) => l.id))
  },
  { immediate: true },
)

// the plot: seconds across, values up
const WIDE = 46
const plot = ref<SVGSVGElement>()
const size = ref({ width: 600, height: 180 })
const first = computed<number>(() => scene.value.time.first)
const span = computed(() => Math.max((scene.value.time.last - first.value) / fps.value, 1e-3))
const span2 = computed(() => Math.max(span.value, ...base.dots.value.map((d) => d.key.time)) * 1.02)
const range = computed<[number, number]>(() => {
  const values = base.seen.value.flatMap((l) =>
    Array.from({ length: 60 }, (_, i) => valueOf(l.curve, l.part, (i / 59) * span2.value)).concat(
      l.curve.keys.map((k) => numberOf(k.value, l.part)),
    ),
  )
  if (!values.length) return [0, 1]
  const [low, high] = [Math.min(...values), Math.max(...values)]
  const margin = Math.max((high - low) * 0.12, 1e-4, Math.abs(high) * 1e-3)
  return [low - margin, high + margin]
})
const x = (time: number) => WIDE + (time / span2.value) * (size.value.width - WIDE - 10)
const y = (value: number) =>
  8 + (1 - (value - range.value[0]) / (range.value[1] - range.value[0])) * (size.value.height - 26)
const timeAt = (px: number) => ((px - WIDE) / (size.value.width - WIDE - 10)) * span2.value
const valueAt = (py: number) =>
  range.value[0] + (1 - (py - 8) / (size.value.height - 26)) * (range.value[1] - range.value[0])
const shape = (l: Line) =>
  Array.from({ length: 220 }, (_, i) => {
    const time = (i / 219) * span2.value
    return `${i ? 'L' : 'M'}${x(time).toFixed(1)} ${y(valueOf(l.curve, l.part, time)).toFixed(1)}`
  }).join('')
const ticks = computed(() => {
  const [low, high] = range.value
  const rough = (high - low) / 4
  const power = 10 ** Math.floor(Math.log10(rough))
  const step = [1, 2, 5, 10].map((m) => m * power).find((s) => s >= rough) ?? rough
  const found = []
  for (let v = Math.ceil(low / step) * step; v <= high; v += step) found.push(+v.toPrecision(10))
  return found
})
const frames = computed(() => {
  const count = scene.value.time.last - first.value + 1
  const step = [1, 2, 5, 6, 12, 24, 48, 120, 240].find((s) => count / s <= 12) ?? 500
  return Array.from({ length: Math.floor((count - 1) / step) + 1 }, (_, i) => first.value + i * step)
})
const secondsOf = (frame: number) => (frame - first.value) / fps.value

// the hand
type Held =
  | { what: 'keys'; from: { time: number; value: number }; lead: Dot }
  | { what: 'slope'; dot: Dot; side: number }
  | { what: 'band'; from: [number, number]; to: [number, number] }
const held = shallowRef<Held | null>(null)
const place = (event: PointerEvent): [number, number] => {
  const box = plot.value!.getBoundingClientRect()
  return [event.clientX - box.left, event.clientY - box.top]
}
function press(event: PointerEvent, dot: Dot) {
  const id = idOf(dot)
  if (event.shiftKey) {
    const next = new Set(chosen.value)
    if (!next.delete(id)) next.add(id)
    edits.chosen.value = next
  } else if (!chosen.value.has(id)) edits.chosen.value = new Set([id])
  base.chosen.value = new Set(chosen.value)
  plot.value!.setPointerCapture(event.pointerId)
  held.value = { what: 'keys', from: { time: dot.key.time, value: dot.value }, lead: dot }
}
function takeSlope(event: PointerEvent, dot: Dot, side: number) {
  plot.value!.setPointerCapture(event.pointerId)
  const same = base.dots.value.find((d) => base.idOf(d) === idOf(dot))!
  held.value = { what: 'slope', dot: same, side }
}
function begin(event: PointerEvent) {
  plot.value!.setPointerCapture(event.pointerId)
  const at = place(event)
  held.value = { what: 'band', from: at, to: at }
}
function drag(event: PointerEvent) {
  const h = held.value
  if (!h) return
  const [px, py] = place(event)
  if (h.what === 'band') held.value = { ...h, to: [px, py] }
  else if (h.what === 'keys') {
    const frame = timeAt(px) * fps.value
    const time = Math.max(event.altKey ? frame : Math.round(frame), 0) / fps.value
    const value = event.ctrlKey ? h.from.value : valueAt(py)
    preview.value = base.moved(time - h.from.time, value - h.from.value)
  } else {
    const away = timeAt(px) - h.dot.key.time
    const step = h.side * Math.max(Math.abs(away), 1e-3)
    preview.value = base.sloped(h.dot, (valueAt(py) - h.dot.value) / step)
  }
}
function drop(event: PointerEvent) {
  const h = held.value
  held.value = null
  if (h?.what === 'band') {
    const [ax, bx] = [h.from[0], h.to[0]].sort((a, b) => a - b)
    const [ay, by] = [h.from[1], h.to[1]].sort((a, b) => a - b)
    if (bx - ax < 3 && by - ay < 3 && !event.shiftKey) edits.chosen.value = new Set()
    else {
      const inside = dots.value.filter((d) => {
        const [px, py] = [x(d.key.time), y(d.value)]
        return px >= ax && px <= bx && py >= ay && py <= by
      })
      edits.chosen.value = new Set([...(event.shiftKey ? chosen.value : []), ...inside.map(idOf)])
    }
    return
  }
  const next = preview.value
  preview.value = null
  if (!next) return
  emit('keep', next)
}
function add(event: MouseEvent) {
  const [px, py] = place(event as PointerEvent)
  const time = Math.round(timeAt(px) * fps.value) / fps.value
  const near = seen.value
    .map((l) => [Math.abs(y(valueOf(l.curve, l.part, timeAt(px))) - py), l] as const)
    .sort((a, b) => a[0] - b[0])[0]
  if (near && time >= 0) edits.use(edits.added(near[1], time))
}
function act(next: SceneDocument) {
  edits.use(next)
}
function toggle(line: Line) {
  const next = new Set(edits.off.value)
  if (!next.delete(line.id)) next.add(line.id)
  edits.off.value = base.off.value = next
}

const one = computed(() => (chosenDots.value.length === 1 ? chosenDots.value[0] : null))
const lead = computed(() => chosenDots.value[0] ?? null)
/** Handles of the slope of the one chosen key, on the sides where the curve is cubic. */
const handles = computed(() => {
  const dot = one.value
  if (!dot) return []
  const slope = slopesOf(dot.line.curve, dot.line.part)[dot.index]
  const { keys } = dot.line.curve
  const cubic = (i: number) => keys[i] && (keys[i].segment ?? 'cubic') === 'cubic'
  const reach = span2.value * 0.06
  return [-1, 1]
    .filter((side) => (side > 0 ? dot.index < keys.length - 1 && cubic(dot.index) : cubic(dot.index - 1)))
    .map((side) => ({
      side,
      x: x(dot.key.time + side * reach),
      y: y(dot.value + side * reach * slope),
    }))
})
/** The first frame that differs while keys are dragged. */
const changing = computed(() => {
  if (held.value?.what !== 'keys' || !preview.value) return null
  const before = Math.min(
    ...base.chosenDots.value.map((d) => d.key.time),
    ...chosenDots.value.map((d) => d.key.time),
  )
  const early = base.chosenDots.value.map(
    (d) => d.line.curve.keys.filter((k) => k.time < before - 1e-6).at(-2)?.time ?? 0,
  )
  return first.value + Math.floor(Math.min(before, ...early) * fps.value)
})
watch(changing, (frame) => emit('changing', frame))
const stays = computed(() =>
  changing.value === null ? '' : `what is cached before frame ${changing.value} stays`,
)

function onKey(event: KeyboardEvent) {
  if ((event.target as HTMLElement).closest('input, select')) return
  const ctrl = event.ctrlKey || event.metaKey
  const [low, high] = range.value
  const acts: Record<string, () => void> = {
    Delete: () => act(edits.without()),
    ArrowLeft: () => act(edits.moved(-1 / fps.value, 0)),
    ArrowRight: () => act(edits.moved(1 / fps.value, 0)),
    ArrowUp: () => act(edits.moved(0, (high - low) / 100)),
    ArrowDown: () => act(edits.moved(0, (low - high) / 100)),
    Escape: () => emit('close'),
    ...(ctrl ? { c: () => edits.copy(), v: () => act(edits.pasted()) } : {}),
    ...(ctrl ? { a: () => (edits.chosen.value = new Set(dots.value.map(idOf))) } : {}),
  }
  const found = acts[event.key]
  if (!found) return
  event.preventDefault()
  event.stopPropagation()
  found()
}
let watcher: ResizeObserver | undefined
onMounted(() => {
  watcher = new ResizeObserver(([entry]) => {
    size.value = { width: entry.contentRect.width, height: entry.contentRect.height }
  })
  watcher.observe(plot.value!)
})
onBeforeUnmount(() => watcher?.disconnect())
</script>

<template>
  <section class="curves" role="group" aria-label="Curves" tabindex="0" @keydown="onKey">
    <div class="side">
      <p v-if="!lines.length" class="dim">
        Nothing has keys yet. The sign beside a setting sets one; or record while you move something (k).
      </p>
      <template v-for="(l, i) in lines" :key="l.id">
        <b v-if="i === 0 || lines[i - 1].owner !== l.owner" class="dim">{{ l.owner }}</b>
        <button
          class="bare line"
          :class="{ off: edits.off.value.has(l.id) }"
          :aria-pressed="!edits.off.value.has(l.id)"
          @click="toggle(l)"
        >
          <i :style="{ background: l.colour }" />{{ l.name }}
        </button>
      </template>
    </div>
    <div class="main">
      <div class="bar">
        <template v-if="lead">
          <label>frame</label>
          <NumberField
            label="Frame of the key"
            :value="one ? +(first + one.key.time * fps).toFixed(3) : null"
            nullable
            @keep="(v) => v !== null && act(edits.placed((v - first) / fps, null))"
          />
          <label>value</label>
          <NumberField
            label="Value of the key"
            :value="one ? +one.value.toPrecision(6) : null"
            nullable
            @keep="(v) => v !== null && act(edits.placed(null, v))"
          />
          <select
            aria-label="How it goes on"
            :value="lead.key.segment ?? 'cubic'"
            @change="act(edits.segmented(($event.target as HTMLSelectElement).value as 'cubic'))"
          >
            <option value="cubic">smooth</option>
            <option value="linear">straight</option>
            <option value="step">held</option>
          </select>
          <button v-if="one && one.key.slope != null" class="bare" @click="act(edits.sloped(one, null))">
            Let its slope be found
          </button>
          <label v-if="chosenDots.length > 1">stretch</label>
          <NumberField
            v-if="chosenDots.length > 1"
            label="Stretch about the playhead"
            unit="×"
            :value="1"
            @keep="(v) => v && v > 0 && act(edits.stretched(v))"
          />
          <button class="bare" @click="act(edits.without())">Take out</button>
        </template>
        <span v-else class="dim">Drag keys; press twice on a curve to add one; drag about several.</span>
        <span class="n dim told" role="status">{{ stays }}</span>
        <button class="bare" aria-label="Close the curves" @click="emit('close')">✕</button>
      </div>
      <svg
        ref="plot"
        class="plot"
        role="img"
        aria-label="Plot of the curves"
        @pointerdown="begin"
        @pointermove="drag"
        @pointerup="drop"
        @dblclick="add"
      >
        <g v-for="v in ticks" :key="v">
          <line :x1="WIDE" :x2="size.width - 10" :y1="y(v)" :y2="y(v)" class="grid" />
          <text :x="WIDE - 6" :y="y(v) + 3.5" text-anchor="end" class="n">{{ +v.toPrecision(4) }}</text>
        </g>
        <text
          v-for="f in frames"
          :key="`f${f}`"
          :x="x(secondsOf(f))"
          :y="size.height - 4"
          text-anchor="middle"
          class="n"
        >
          {{ f }}
        </text>
        <line :x1="x(now)" :x2="x(now)" y1="4" :y2="size.height - 16" class="head" />
        <path v-for="l in seen" :key="l.id" :d="shape(l)" fill="none" :stroke="l.colour" stroke-width="1.5" />
        <g v-if="one">
          <g v-for="h in handles" :key="h.side">
            <line :x1="x(one.key.time)" :y1="y(one.value)" :x2="h.x" :y2="h.y" class="arm" />
            <rect
              :x="h.x - 4"
              :y="h.y - 4"
              width="8"
              height="8"
              class="arm grip"
              :aria-label="h.side > 0 ? 'Slope after the key' : 'Slope before the key'"
              @pointerdown.stop="takeSlope($event, one, h.side)"
            />
          </g>
        </g>
        <circle
          v-for="d in dots"
          :key="idOf(d)"
          :cx="x(d.key.time)"
          :cy="y(d.value)"
          :r="chosen.has(idOf(d)) ? 5 : 4"
          :fill="chosen.has(idOf(d)) ? '#f3fbf9' : d.line.colour"
          class="key"
          :aria-label="`${d.line.owner} ${d.line.name} at frame ${+(first + d.key.time * fps).toFixed(2)}`"
          @pointerdown.stop="press($event, d)"
          @dblclick.stop="emit('go', Math.round(first + d.key.time * fps))"
        />
        <rect
          v-if="held?.what === 'band'"
          :x="Math.min(held.from[0], held.to[0])"
          :y="Math.min(held.from[1], held.to[1])"
          :width="Math.abs(held.to[0] - held.from[0])"
          :height="Math.abs(held.to[1] - held.from[1])"
          class="band"
        />
      </svg>
    </div>
  </section>
</template>

<style scoped>
.curves {
  position: absolute;
  left: 0;
  right: 0;
  bottom: 0;
  height: 250px;
  display: flex;
  background: var(--pane);
  border-top: 1px solid var(--line);
}
.side {
  width: 160px;
  padding: 8px;
  overflow: auto;
  border-right: 1px solid var(--line);
  font-size: 12px;
}
.side b {
  display: block;
  font-weight: 600;
  font-size: 11px;
  margin: 4px 4px 2px;
}
.line {
  display: flex;
  gap: 7px;
  align-items: center;
  width: 100%;
  padding: 2px 4px;
}
.line i {
  width: 12px;
  height: 3px;
}
.line.off {
  opacity: 0.4;
}
.main {
  flex: 1;
  min-width: 0;
  display: flex;
  flex-direction: column;
}
.bar {
  display: flex;
  gap: 7px;
  align-items: center;
  padding: 4px 10px;
  font-size: 12px;
  min-height: 32px;
}
.bar .number {
  flex: none;
  width: 84px;
}
.bar button {
  color: var(--accent);
}
.bar select {
  background: var(--deep);
  border: 1px solid var(--line);
  color: var(--text);
  border-radius: 2px;
  padding: 1px 4px;
}
.told {
  margin-left: auto;
}
.plot {
  flex: 1;
  min-height: 0;
  width: 100%;
  touch-action: none;
  cursor: crosshair;
}
.grid {
  stroke: var(--line);
  stroke-width: 1;
}
text {
  fill: var(--dim);
  font-size: 10.5px;
}
.head {
  stroke: var(--text);
  stroke-width: 1;
  pointer-events: none;
}
.key {
  cursor: move;
  stroke: var(--pane);
  stroke-width: 1.5;
}
.arm {
  stroke: var(--brass);
  fill: var(--pane);
}
.grip {
  cursor: ns-resize;
}
.band {
  fill: #3fb7a322;
  stroke: var(--accent);
}
</style>
