<script setup lang="ts">
import { computed, nextTick, ref } from 'vue'

import type { SceneDocument } from './useTake'

/** The scene's elements: picked, renamed, put together, out of sight, attached by dragging onto another; and more put in. */
const props = defineProps<{ scene: SceneDocument; picked: number[]; alone: boolean }>()
const emit = defineEmits<{
  pick: [index: number | null, more: boolean]
  add: [kind: string, shape: string]
  mesh: []
  sea: []
  rename: [index: number, name: string]
  flip: [name: 'hidden' | 'locked', which?: number[]]
  together: []
  isolate: []
  attach: [index: number, to: number | null]
}>()

const naming = ref<number | null>(null)
const field = ref<HTMLInputElement[]>()
async function begin(index: number) {
  naming.value = index
  await nextTick()
  field.value?.[0]?.select()
}
function end(index: number, event: Event) {
  if (naming.value !== index) return
  naming.value = null
  emit('rename', index, (event.target as HTMLInputElement).value)
}

/** Elements in order, those that are attached under what they are attached to; groups said where they begin. */
const rows = computed(() => {
  const elements = props.scene.elements as SceneDocument[]
  const found: { index: number; element: SceneDocument; depth: number; group: string }[] = []
  const there = new Set(elements.map((e) => e.name))
  const below = (name: string | null, depth: number) =>
    elements.forEach((element, index) => {
      const on = there.has(element.attached) ? element.attached : null
      if (on !== name) return
      const before = found.at(-1)?.element.group ?? ''
      const group = element.group && element.group !== before ? element.group : ''
      found.push({ index, element, depth, group })
      if (depth < 16) below(element.name, depth + 1)
    })
  below(null, 0)
  return found
})

const dragged = ref<number | null>(null)
const over = ref<number | null>(null)
function drop(to: number | null) {
  if (dragged.value !== null && dragged.value !== to) emit('attach', dragged.value, to)
  dragged.value = over.value = null
}
const chosen = computed(() => props.picked.map((i) => props.scene.elements[i]).filter(Boolean))
const grouped = computed(() => chosen.value.length > 0 && chosen.value.every((e) => e.group))

const OFFERS = [
  ['fill', 'box', 'Box of liquid'],
  ['fill', 'sphere', 'Drop of liquid'],
  ['inflow', 'disc', 'Inflow through a disc'],
  ['inflow', 'slot', 'Inflow through a slot'],
  ['collider', 'box', 'Box collider'],
  ['collider', 'sphere', 'Sphere collider'],
  ['collider', 'plane', 'Ground plane'],
  ['collider', 'tub', 'Open tub'],
  ['collider', 'tube', 'Tube'],
  ['drain', 'box', 'Drain'],
  ['force', 'wind', 'Wind'],
  ['force', 'drag', 'Drag zone'],
  ['force', 'turbulence', 'Turbulence'],
  ['force', 'vortex', 'Vortex'],
  ['force', 'attraction', 'Attraction'],
] as const
const MARK: Record<string, string> = {
  fill: 'drop',
  inflow: 'jet',
  collider: 'block',
  drain: 'hole',
  force: 'push',
}
const SEEN = 'M2 10q8-9 16 0q-8 9-16 0M10 7.4a2.6 2.6 0 1 1 0 5.2a2.6 2.6 0 1 1 0-5.2'
const UNSEEN = 'M2 10q8-9 16 0q-8 9-16 0M4 17L16 3'
const LOCK = 'M5 9h10v8H5zM7 9V6a3 3 0 0 1 6 0v3'
</script>

<template>
  <div class="list" @dragover.prevent @drop.prevent="drop(null)">
    <h3>
      <span>Elements</span>
      <v-menu>
        <template #activator="{ props: activator }">
          <button class="bare plus" aria-label="Put in an element" v-bind="activator">+</button>
        </template>
        <div class="menu">
          <button v-for="o in OFFERS" :key="o[2]" class="bare" @click="emit('add', o[0], o[1])">
            {{ o[2] }}
          </button>
          <button v-if="!scene.sea.made" class="bare" @click="emit('sea')">Sea</button>
          <button class="bare" @click="emit('mesh')">Import a mesh…</button>
        </div>
      </v-menu>
    </h3>
    <p v-if="!scene.elements.length" class="dim">
      Nothing yet. Take a tool at the edge of the viewport: press, drag, let go. Or drop files on the page.
    </p>
    <template v-for="{ index: i, element: e, depth, group } in rows" :key="e.name">
      <p v-if="group" class="group dim">{{ group }}</p>
      <input
        v-if="naming === i"
        ref="field"
        class="naming"
        :value="e.name"
        :aria-label="`Name of ${e.name}`"
        maxlength="80"
        @blur="end(i, $event)"
        @keydown.enter="end(i, $event)"
        @keydown.esc="naming = null"
      />
      <div
        v-else
        class="row"
        :class="{ on: picked.includes(i), over: over === i, faint: e.hidden }"
        :style="{ paddingLeft: `${depth * 10}px` }"
        @dragover.prevent="over = i"
        @dragleave="over = null"
        @drop.prevent.stop="drop(i)"
      >
        <button
          class="bare element"
          draggable="true"
          :aria-pressed="picked.includes(i)"
          title="Press twice, or F2, to rename; with Shift, pick one more; drag it onto another to attach it"
          @click="emit('pick', picked.length === 1 && picked[0] === i ? null : i, $event.shiftKey)"
          @dblclick="begin(i)"
          @keydown.f2="begin(i)"
          @dragstart="dragged = i"
          @dragend="dragged = over = null"
        >
          <i :class="MARK[e.kind]" aria-hidden="true" /><span>{{ e.name }}</span>
        </button>
        <span class="signs" :class="{ set: e.hidden || e.locked }">
          <button
            class="bare sign"
            :class="{ set: e.hidden }"
            :aria-label="`${e.hidden ? 'See' : 'Hide'} ${e.name}`"
            :title="e.hidden ? 'Out of sight; it acts all the same' : 'Put it out of sight'"
            @click="emit('flip', 'hidden', [i])"
          >
            <svg viewBox="0 0 20 20" aria-hidden="true"><path :d="e.hidden ? UNSEEN : SEEN" /></svg>
          </button>
          <button
            class="bare sign"
            :class="{ set: e.locked }"
            :aria-label="`${e.locked ? 'Unlock' : 'Lock'} ${e.name}`"
            :title="e.locked ? 'Not picked nor moved in the viewport' : 'Keep it from being picked or moved'"
            @click="emit('flip', 'locked', [i])"
          >
            <svg viewBox="0 0 20 20" aria-hidden="true"><path :d="LOCK" /></svg>
          </button>
        </span>
      </div>
    </template>
    <p v-if="chosen.length" class="acts">
      <button class="bare" title="See it alone, or everything (a)" @click="emit('isolate')">
        {{ alone ? 'All' : 'Alone' }}
      </button>
      <button
        v-if="chosen.length > 1 || grouped"
        class="bare"
        title="Picked together from now on (Ctrl G)"
        @click="emit('together')"
      >
        {{ grouped ? 'Ungroup' : 'Group' }}
      </button>
      <button
        v-if="chosen.length === 1 && chosen[0].attached"
        class="bare"
        :title="`Let go of ${chosen[0].attached}`"
        @click="emit('attach', picked[0], null)"
      >
        Detach
      </button>
    </p>
  </div>
</template>

<style scoped>
.list {
  flex: 1;
  padding: 10px 8px;
  overflow: auto;
  min-width: 0;
}
h3 {
  font-size: 11px;
  font-weight: 600;
  color: var(--dim);
  display: flex;
  justify-content: space-between;
  margin: 2px 4px 6px;
}
.plus {
  font-size: 16px;
  line-height: 12px;
  padding: 0 4px;
}
.group {
  font-size: 10.5px;
  margin: 5px 6px 0;
}
.row {
  position: relative;
  display: flex;
  align-items: center;
  border-radius: 3px;
}
.row.on {
  background: var(--raise);
}
.row.over {
  box-shadow: inset 0 0 0 1px var(--accent);
}
.row.faint .element span {
  opacity: 0.55;
}
.element {
  display: flex;
  flex: 1;
  gap: 8px;
  align-items: center;
  min-width: 0;
  padding: 4px 2px 4px 6px;
  font-size: 12.5px;
}
.element span {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.signs {
  position: absolute;
  right: 2px;
  display: flex;
  border-radius: 3px;
  background: var(--pane);
  opacity: 0;
}
.row.on .signs {
  background: var(--raise);
}
.row:hover .signs,
.signs:focus-within,
.signs.set {
  opacity: 1;
}
.sign {
  padding: 3px 2px;
  color: var(--dim);
}
.sign.set {
  color: var(--brass);
}
svg {
  width: 13px;
  height: 13px;
  display: block;
}
path {
  fill: none;
  stroke: currentColor;
  stroke-width: 1.6;
}
.naming {
  width: 100%;
  padding: 3px 6px;
  font-size: 12.5px;
  color: var(--text);
  background: var(--deep);
  border: 1px solid var(--accent);
  border-radius: 3px;
}
.acts {
  display: flex;
  gap: 10px;
  margin: 8px 6px;
  font-size: 11.5px;
}
.acts button {
  color: var(--accent);
}
i {
  width: 12px;
  height: 12px;
  flex: none;
  border: 1.5px solid var(--dim);
}
i.drop {
  border-color: #6fb7d8;
  border-radius: 50% 50% 50% 0;
  transform: rotate(-45deg) scale(0.85);
}
i.jet {
  border: 0;
  border-left: 4px dotted #57b894;
  margin-left: 4px;
  margin-right: -4px;
}
i.hole {
  border-style: dashed;
  border-radius: 50%;
}
i.push {
  border-width: 0 0 1.5px 0;
  border-color: var(--brass);
  transform: skewX(-45deg) scale(0.7);
  box-shadow: inset -2px 0 0 var(--brass);
}
</style>
