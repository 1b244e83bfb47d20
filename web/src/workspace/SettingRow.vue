<script setup lang="ts">
import endings from '../api/endings.json'
import { computed } from 'vue'

import { client, problemsOf, type Said } from '../api/client'
import { useBringing } from '../api/useBringing'
import { hexOf, linearOf } from '../shell/colour'
import NumberField from './NumberField.vue'
import { valueAt, withValue, type Setting } from './schema'
import type { SceneDocument } from './useTake'

/** One setting: its name, whether it has keys, and the control for its kind. */
const props = defineProps<{
  setting: Setting
  scene: SceneDocument
  take: number
  frame: number
  /** names that a setting of another element can have */
  others: string[]
  /** caches that can be joined, by their folders */
  caches: { folder: string; name: string }[]
}>()
const emit = defineEmits<{ keep: [scene: SceneDocument]; problems: [problems: Said[]] }>()

interface Curve {
  keys: { time: number; value: number | number[]; segment?: string }[]
}
const s = computed(() => props.setting)
const curve = computed<Curve | null>(() => {
  const v = valueAt(props.scene, s.value.path) as Curve | number | null
  return v && typeof v === 'object' && Array.isArray(v.keys) ? v : null
})
const now = computed(() => +((props.frame - props.scene.time.first) / props.scene.time.fps).toFixed(6))
const onKey = computed(() => curve.value?.keys.some((k) => Math.abs(k.time - now.value) < 1e-6) ?? false)

/** The value shown: plain, or the key nearest to the playhead. */
const shown = computed<unknown>(() => {
  const c = curve.value
  if (!c) return valueAt(props.scene, s.value.path) ?? s.value.initial
  return c.keys.reduce((a, b) => (Math.abs(b.time - now.value) < Math.abs(a.time - now.value) ? b : a)).value
})

function keep(value: unknown) {
  const c = curve.value
  if (!c) return emit('keep', withValue(props.scene, s.value.path, value))
  const others = c.keys.filter((k) => Math.abs(k.time - now.value) > 1e-6)
  const keys = [...others, { time: now.value, value }].sort((a, b) => a.time - b.time)
  emit('keep', withValue(props.scene, s.value.path, { keys }))
}

const choose = (value: string) => keep(s.value.kind === 'part' ? { kind: value } : value)

function keepComponent(i: number, value: number | null) {
  const next = [...(shown.value as number[])]
  next[i] = value ?? 0
  keep(next)
}

function keyHere() {
  const c = curve.value
  const path = s.value.path
  if (!c)
    return emit('keep', withValue(props.scene, path, { keys: [{ time: now.value, value: shown.value }] }))
  const left = c.keys.filter((k) => Math.abs(k.time - now.value) > 1e-6)
  if (left.length === c.keys.length) return keep(shown.value)
  emit('keep', withValue(props.scene, path, left.length ? { keys: left } : shown.value))
}

const { told, bring: send } = useBringing(props.take)
async function bring(kind: 'images' | 'meshes', event: Event) {
  const files = [...((event.target as HTMLInputElement).files ?? [])]
  if (!files.length) return
  try {
    const kept = await send<{ file: string; animated?: boolean }>(files, (upload) =>
      client.POST(`/api/takes/{take_id}/${kind}`, {
        params: { path: { take_id: props.take }, query: { upload } },
      }),
    )
    emit('problems', [])
    if (kind === 'images') keep(kept.file)
    else {
      // a newer file: all settings stay, but for what is said of the older one
      const at = s.value.path.slice(0, -1)
      const shape = valueAt(props.scene, at) as SceneDocument
      const next = { ...shape, file: kept.file, fine: '', animated: !!kept.animated }
      emit('keep', withValue(props.scene, at, next))
    }
  } catch (error) {
    emit('problems', problemsOf(error))
  }
}
</script>

<template>
  <div
    class="row"
    :class="{ tall: s.kind === 'vector' && s.control !== 'colour' }"
    :title="s.cost ? `${s.meaning} Cost: ${s.cost}` : s.meaning"
  >
    <span class="name"
      >{{ s.title
      }}<button
        v-if="s.keyed"
        class="bare key"
        :class="{ on: onKey, some: curve }"
        :aria-label="`${onKey ? 'Remove the key of' : 'Set a key of'} ${s.title} at this frame`"
        @click="keyHere()"
      />
      <em v-if="s.kind === 'vector' && s.unit" class="dim">{{ s.unit }}</em></span
    >
    <NumberField
      v-if="s.kind === 'number' || s.kind === 'integer'"
      :value="(shown as number | null) ?? null"
      :unit="s.unit"
      :label="s.title"
      :slider="s.slider"
      :log="s.log"
      :whole="s.kind === 'integer'"
      :nullable="s.nullable"
      @keep="(v) => keep(v)"
    />
    <label v-else-if="s.kind === 'switch'" class="switch">
      <input
        type="checkbox"
        :checked="!!shown"
        :aria-label="s.title"
        @change="keep(($event.target as HTMLInputElement).checked)"
      />
      <span class="dim">{{ shown ? 'yes' : 'no' }}</span>
    </label>
    <input
      v-else-if="s.control === 'colour'"
      type="color"
      class="colour"
      :value="hexOf(shown as number[])"
      :aria-label="s.title"
      @change="keep(linearOf(($event.target as HTMLInputElement).value))"
    />
    <div v-else-if="s.kind === 'vector'" class="triple">
      <NumberField
        v-for="i in 3"
        :key="i"
        :value="(shown as number[])[i - 1]"
        :label="`${s.title} ${'xyz'[i - 1]}`"
        @keep="(v) => keepComponent(i - 1, v)"
      />
    </div>
    <select
      v-else-if="s.choices.length"
      :value="s.kind === 'part' ? (shown as { kind: string }).kind : shown"
      :aria-label="s.title"
      @change="choose(($event.target as HTMLSelectElement).value)"
    >
      <option v-for="c in s.choices" :key="c">{{ c }}</option>
    </select>
    <select
      v-else-if="s.control === 'element'"
      :value="shown ?? ''"
      :aria-label="s.title"
      @change="keep(($event.target as HTMLSelectElement).value || null)"
    >
      <option value="">nothing</option>
      <option v-for="n in others" :key="n">{{ n }}</option>
    </select>
    <select
      v-else-if="s.control === 'layer'"
      :value="shown ?? ''"
      :aria-label="s.title"
      @change="keep(($event.target as HTMLSelectElement).value)"
    >
      <option value="">all layers</option>
      <option v-for="l in scene.whitewater?.layers ?? []" :key="l.name" :value="l.name">{{ l.name }}</option>
    </select>
    <select
      v-else-if="s.control === 'cache'"
      :value="shown ?? ''"
      :aria-label="s.title"
      @change="keep(($event.target as HTMLSelectElement).value)"
    >
      <option value="">none yet</option>
      <option v-for="c in caches" :key="c.folder" :value="c.folder">{{ c.name }}</option>
    </select>
    <label v-else-if="s.control === 'image' || s.control === 'file'" class="n file image">
      <span class="of">{{ told || shown || 'none yet' }}</span>
      <input
        type="file"
        multiple
        :accept="(s.control === 'image' ? endings.images : endings.meshes).join()"
        :aria-label="s.title"
        @change="bring(s.control === 'image' ? 'images' : 'meshes', $event)"
      />
      <span
        class="apply flush"
        :title="shown && s.control === 'file' ? 'For a newer file: all settings stay' : ''"
        >{{ shown && s.control === 'file' ? 'exchange' : 'choose' }}</span
      >
      <button
        v-if="shown && s.control === 'image'"
        type="button"
        class="bare apply flush"
        :aria-label="`No ${s.title.toLowerCase()}`"
        @click.prevent="keep('')"
      >
        none
      </button>
    </label>
    <input
      v-else-if="s.kind === 'text' && s.control === ''"
      class="text n"
      :value="shown"
      :aria-label="s.title"
      @change="keep(($event.target as HTMLInputElement).value)"
      @keydown.enter="($event.target as HTMLInputElement).blur()"
    />
    <span v-else class="n file">{{ shown }}</span>
  </div>
</template>

<style scoped>
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
.of {
  flex: 1;
  min-width: 0;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
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
  min-width: 0;
  max-width: 100%;
  text-overflow: ellipsis;
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
  display: flex;
  gap: 6px;
  align-items: baseline;
  min-width: 0;
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
.switch {
  display: flex;
  gap: 8px;
  align-items: center;
  font-size: 12px;
}
.switch input {
  accent-color: var(--accent);
}
.text {
  background: var(--deep);
  border: 1px solid var(--line);
  border-radius: 2px;
  color: var(--text);
  padding: 2px 5px;
  font-size: 12px;
  min-width: 0;
}
.apply {
  color: var(--accent);
  text-decoration: underline;
  margin-left: 6px;
}
.apply.flush {
  margin-left: 0;
}
</style>
