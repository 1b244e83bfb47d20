<script setup lang="ts">
import { computed, ref } from 'vue'

import { sentences, upload, type Schemas } from '../api/client'
import { hexOf, linearOf } from '../shell/colour'
import { bytes, count, label } from '../shell/words'
import NumberField from './NumberField.vue'
import { settingsOf, settingsOfElement, valueAt, withValue, type Setting } from './schema'
import type { SceneDocument } from './useTake'

/** Settings of what is picked, made from the scene schema; forecast and advice at its foot. */
const props = defineProps<{
  take: number
  scene: SceneDocument
  part: string
  element: number | null
  frame: number
  forecast: Schemas['ForecastReply'] | null
  problems: string[]
  remarks: string[]
  refused: string[]
  solid: string | null
}>()
const emit = defineEmits<{ keep: [scene: SceneDocument]; remove: []; solid: [] }>()

const settings = computed<Setting[]>(() => {
  if (props.element !== null && props.scene.elements[props.element])
    return settingsOfElement(props.scene.elements[props.element], props.element)
  if (props.part === 'liquid') return settingsOf('LiquidSettings', ['liquid'])
  if (props.part === 'surface') return settingsOf('SurfaceSettings', ['surface'])
  return [
    ...settingsOf('Time', ['time']),
    ...settingsOf('Domain', ['domain']),
    ...settingsOf('Quality', ['quality']),
    ...settingsOf('View', ['camera']),
  ]
})
const groups = computed(() => {
  const found = new Map<string, Setting[]>()
  for (const s of settings.value) found.set(s.group, [...(found.get(s.group) ?? []), s])
  return [...found]
})
const title = computed(() =>
  props.element !== null ? props.scene.elements[props.element]?.name : label(props.part),
)
const imageProblems = ref<string[]>([])
const advice = computed(() => [...new Set([...imageProblems.value, ...props.refused, ...props.problems])])

async function bringImage(s: Setting, event: Event) {
  const files = [...((event.target as HTMLInputElement).files ?? [])]
  if (!files.length) return
  try {
    const kept: { file: string } = await upload(`/api/takes/${props.take}/images`, files)
    imageProblems.value = []
    keep(s, kept.file)
  } catch (error) {
    imageProblems.value = sentences(error)
  }
}

interface Curve {
  keys: { time: number; value: number | number[]; segment?: string }[]
}
const curve = (s: Setting): Curve | null => {
  const v = valueAt(props.scene, s.path) as Curve | number | null
  return v && typeof v === 'object' && Array.isArray(v.keys) ? v : null
}
const now = computed(() => +((props.frame - props.scene.time.first) / props.scene.time.fps).toFixed(6))

/** The value shown: plain, or the key nearest to the playhead. */
function shown(s: Setting): unknown {
  const c = curve(s)
  if (!c) return valueAt(props.scene, s.path) ?? s.initial
  return c.keys.reduce((a, b) => (Math.abs(b.time - now.value) < Math.abs(a.time - now.value) ? b : a)).value
}

function keep(s: Setting, value: unknown) {
  const c = curve(s)
  if (!c) return emit('keep', withValue(props.scene, s.path, value))
  const others = c.keys.filter((k) => Math.abs(k.time - now.value) > 1e-6)
  const keys = [...others, { time: now.value, value }].sort((a, b) => a.time - b.time)
  emit('keep', withValue(props.scene, s.path, { keys }))
}

const choose = (s: Setting, value: string) => keep(s, s.kind === 'part' ? { kind: value } : value)

function keepComponent(s: Setting, i: number, value: number | null) {
  const next = [...(shown(s) as number[])]
  next[i] = value ?? 0
  keep(s, next)
}

function keyHere(s: Setting) {
  const c = curve(s)
  if (!c)
    return emit('keep', withValue(props.scene, s.path, { keys: [{ time: now.value, value: shown(s) }] }))
  const left = c.keys.filter((k) => Math.abs(k.time - now.value) > 1e-6)
  if (left.length === c.keys.length) return keep(s, shown(s))
  emit('keep', withValue(props.scene, s.path, left.length ? { keys: left } : shown(s)))
}

const onKey = (s: Setting) => curve(s)?.keys.some((k) => Math.abs(k.time - now.value) < 1e-6) ?? false

const others = computed(() =>
  (props.scene.elements as { name: string }[]).filter((_, i) => i !== props.element).map((e) => e.name),
)

const meshShape = computed(() => {
  const e = props.element !== null ? props.scene.elements[props.element] : null
  return e?.shape?.kind === 'mesh' ? e.shape : null
})

function unitFrom(sentence: string) {
  const unit = /is its unit '(\w+)'/.exec(sentence)?.[1]
  const index = Number(/elements\[(\d+)\]/.exec(sentence)?.[1])
  if (unit) emit('keep', withValue(props.scene, ['elements', index, 'shape', 'unit'], unit))
}

function vesselFrom(sentence: string) {
  const index = Number(/inside elements\[(\d+)\]/.exec(sentence)?.[1])
  emit('keep', withValue(props.scene, ['elements', index, 'side'], 'inside'))
}
</script>

<template>
  <aside class="settings" aria-label="Settings">
    <div class="scroll">
      <h2>
        <span>{{ title }}</span>
        <button
          v-if="element !== null"
          class="bare dim"
          title="Take this element out of the scene"
          @click="emit('remove')"
        >
          Take out
        </button>
      </h2>
      <section v-for="[group, list] in groups" :key="group">
        <h3>{{ group }}</h3>
        <div
          v-for="s in list"
          :key="s.path.join('.')"
          class="row"
          :class="{ tall: s.kind === 'vector' && s.control !== 'colour' }"
          :title="s.meaning"
        >
          <span class="name"
            >{{ s.title
            }}<button
              v-if="s.keyed"
              class="bare key"
              :class="{ on: onKey(s), some: curve(s) }"
              :aria-label="`${onKey(s) ? 'Remove the key of' : 'Set a key of'} ${s.title} at this frame`"
              @click="keyHere(s)"
            />
            <em v-if="s.kind === 'vector' && s.unit" class="dim">{{ s.unit }}</em></span
          >
          <NumberField
            v-if="s.kind === 'number' || s.kind === 'integer'"
            :value="(shown(s) as number | null) ?? null"
            :unit="s.unit"
            :label="s.title"
            :slider="s.slider"
            :log="s.log"
            :whole="s.kind === 'integer'"
            :nullable="s.nullable"
            @keep="(v) => keep(s, v)"
          />
          <input
            v-else-if="s.control === 'colour'"
            type="color"
            class="colour"
            :value="hexOf(shown(s) as number[])"
            :aria-label="s.title"
            @change="keep(s, linearOf(($event.target as HTMLInputElement).value))"
          />
          <div v-else-if="s.kind === 'vector'" class="triple">
            <NumberField
              v-for="i in 3"
              :key="i"
              :value="(shown(s) as number[])[i - 1]"
              :label="`${s.title} ${'xyz'[i - 1]}`"
              @keep="(v) => keepComponent(s, i - 1, v)"
            />
          </div>
          <select
            v-else-if="s.choices.length"
            :value="s.kind === 'part' ? (shown(s) as { kind: string }).kind : shown(s)"
            :aria-label="s.title"
            @change="choose(s, ($event.target as HTMLSelectElement).value)"
          >
            <option v-for="c in s.choices" :key="c">{{ c }}</option>
          </select>
          <select
            v-else-if="s.control === 'element'"
            :value="shown(s) ?? ''"
            :aria-label="s.title"
            @change="keep(s, ($event.target as HTMLSelectElement).value || null)"
          >
            <option value="">nothing</option>
            <option v-for="n in others" :key="n">{{ n }}</option>
          </select>
          <label v-else-if="s.control === 'image'" class="n file image">
            {{ shown(s) || 'none yet' }}
            <input
              type="file"
              multiple
              accept=".png,.jpg,.jpeg,.tif,.tiff"
              :aria-label="s.title"
              @change="bringImage(s, $event)"
            />
            <span class="apply flush">choose</span>
          </label>
          <span v-else class="n file">{{ shown(s) }}</span>
        </div>
      </section>
      <p v-if="element !== null && scene.elements[element]?.kind === 'collider'" class="dim small">
        <button class="bare apply flush" @click="emit('solid')">
          {{ solid ? 'Hide the solver’s solid' : 'Show the solver’s solid' }}
        </button>
        <span v-if="solid" class="told" data-testid="solid-error">{{ solid }}</span>
      </p>
      <p v-if="meshShape" class="dim small">
        Unit and up axis say how the file is read; the mesh itself stays as it is.
      </p>
    </div>
    <div class="foot">
      <p v-for="p in advice" :key="p" class="sentence bad" role="alert">
        {{ p }}
        <button v-if="p.includes('is its unit')" class="bare apply" @click="unitFrom(p)">Use it</button>
      </p>
      <p v-for="r in remarks" :key="r" class="sentence">
        {{ r }}
        <button v-if="r.includes('let liquid be inside')" class="bare apply" @click="vesselFrom(r)">
          Use it as a vessel
        </button>
      </p>
      <div v-if="forecast" class="forecast n" :class="{ over: !forecast.fits }">
        <span>voxel</span><b>{{ +(forecast.voxel_size * 1000).toPrecision(3) }} mm</b> <span>memory</span
        ><b>{{ bytes(forecast.memory) }}</b> <span>voxels</span><b>{{ count(forecast.voxels) }}</b>
        <span>disk</span><b>{{ bytes(forecast.disk) }}</b> <span>particles</span
        ><b>{{ count(forecast.particles) }}</b> <span>frames</span><b>{{ forecast.frames }}</b>
      </div>
    </div>
  </aside>
</template>

<style scoped>
.settings {
  background: var(--pane);
  border-left: 1px solid var(--line);
  display: flex;
  flex-direction: column;
  min-height: 0;
}
.scroll {
  flex: 1;
  overflow: auto;
  padding: 10px 12px;
}
h2 {
  font-size: 14px;
  font-weight: 650;
  display: flex;
  justify-content: space-between;
  margin-bottom: 4px;
}
h2 button {
  font-size: 12px;
  font-weight: 400;
}
h3 {
  font-size: 11px;
  font-weight: 600;
  color: var(--dim);
  margin: 8px 0 3px;
}
.row {
  display: grid;
  grid-template-columns: 108px 1fr;
  gap: 8px;
  align-items: center;
  min-height: 26px;
}
.row.tall {
  grid-template-columns: 1fr;
  gap: 2px;
  margin-bottom: 4px;
}
.name {
  font-size: 12.5px;
}
.name em {
  font-style: normal;
  font-size: 11px;
  margin-left: 6px;
}
.triple {
  display: flex;
  gap: 5px;
}
select {
  background: var(--deep);
  border: 1px solid var(--line);
  border-radius: 2px;
  color: var(--text);
  padding: 2px 5px;
  font-size: 12px;
}
.key {
  display: inline-block;
  width: 8px;
  height: 10px;
  margin-left: 7px;
  border: 1px solid var(--dim);
  border-bottom-width: 3px;
}
.key.some {
  border-color: var(--accent);
}
.key.on {
  background: var(--accent);
}
.file {
  overflow-wrap: anywhere;
  font-size: 11px;
}
.image {
  cursor: pointer;
}
.image input {
  position: absolute;
  opacity: 0;
  width: 1px;
}
.image:focus-within .apply {
  outline: 1px solid var(--accent);
}
.colour {
  width: 100%;
  height: 20px;
  padding: 0;
  border: 1px solid var(--line);
  background: none;
}
.foot {
  padding: 8px 12px 10px;
  display: flex;
  flex-direction: column;
  gap: 6px;
  max-height: 45%;
  overflow: auto;
}
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
.forecast span {
  color: var(--dim);
}
.forecast b {
  font-weight: 400;
  text-align: right;
}
.apply {
  color: var(--accent);
  text-decoration: underline;
  margin-left: 6px;
}
.small {
  font-size: 11.5px;
  margin-top: 6px;
}
.apply.flush {
  margin-left: 0;
}
.told {
  display: block;
  margin-top: 2px;
}
</style>
