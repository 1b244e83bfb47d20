<script setup lang="ts">
import { nextTick, ref } from 'vue'

import type { SceneDocument } from './useTake'

/** The scene's elements, and a way to put in more. */
defineProps<{ scene: SceneDocument; element: number | null }>()
const emit = defineEmits<{
  pick: [index: number | null]
  add: [kind: string, shape: string]
  mesh: []
  rename: [index: number, name: string]
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

const OFFERS = [
  ['fill', 'box', 'Box of liquid'],
  ['fill', 'sphere', 'Drop of liquid'],
  ['inflow', 'disc', 'Inflow through a disc'],
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
</script>

<template>
  <div class="list">
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
          <button class="bare" @click="emit('mesh')">Import a mesh…</button>
        </div>
      </v-menu>
    </h3>
    <p v-if="!scene.elements.length" class="dim">
      Nothing yet. Take a tool at the edge of the viewport: press, drag, let go.
    </p>
    <template v-for="(e, i) in scene.elements" :key="e.name">
      <input
        v-if="naming === i"
        ref="field"
        class="naming"
        :value="e.name"
        :aria-label="`Name of ${e.name}`"
        maxlength="80"
        @blur="end(Number(i), $event)"
        @keydown.enter="end(Number(i), $event)"
        @keydown.esc="naming = null"
      />
      <button
        v-else
        class="bare element"
        :class="{ on: element === i }"
        title="Press twice, or F2, to rename"
        @click="emit('pick', element === i ? null : Number(i))"
        @dblclick="begin(Number(i))"
        @keydown.f2="begin(Number(i))"
      >
        <i :class="MARK[e.kind]" aria-hidden="true" />{{ e.name }}
      </button>
    </template>
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
.element {
  display: flex;
  gap: 8px;
  align-items: center;
  width: 100%;
  padding: 4px 6px;
  border-radius: 3px;
  font-size: 12.5px;
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
.element.on {
  background: var(--raise);
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
