<script setup lang="ts">
import { computed } from 'vue'

import { KINDS, type Look } from '../viewport/materials'
import type { Packed } from '../viewport/packed'
import { label } from '../shell/words'

/** Kinds of points and layers of them: which are seen, how many there are of each, and how they are drawn. */
const props = defineProps<{ shown: Packed; look: Look; layers: string[] }>()
const emit = defineEmits<{ look: [look: Look] }>()

const rows = computed(() =>
  (props.shown.forms ?? []).map((name, n) => ({
    name,
    colour: KINDS[n],
    count: props.shown.counts?.[n] ?? 0,
    seen: props.look.seen[n] !== false,
  })),
)
const byLayer = computed(() =>
  props.layers.map((name, n) => ({
    name,
    colour: '',
    count: props.shown.layers?.[n] ?? 0,
    seen: props.look.layers[n] !== false,
  })),
)
type What = 'seen' | 'layers'
const lists = computed<[What, typeof rows.value][]>(() => [
  ['seen', rows.value],
  ...(props.layers.length > 1 ? ([['layers', byLayer.value]] as [What, typeof rows.value][]) : []),
])
const alone = (list: typeof rows.value) => list.filter((r) => r.seen).length === 1

function see(what: What, list: typeof rows.value, n: number, seen: boolean) {
  emit('look', { ...props.look, [what]: list.map((r, m) => (m === n ? seen : r.seen)) })
}
/** This one alone; all of them again if it is alone already. */
function only(what: What, list: typeof rows.value, n: number) {
  const again = alone(list) && list[n].seen
  emit('look', { ...props.look, [what]: list.map((_, m) => again || m === n) })
}
</script>

<template>
  <div class="kinds">
    <div v-for="[what, list] in lists" :key="what" :class="{ layers: what === 'layers' }">
      <div v-for="(r, n) in list" :key="r.name" class="kind">
        <label>
          <input
            type="checkbox"
            :checked="r.seen"
            @change="see(what, list, n, ($event.target as HTMLInputElement).checked)"
          />
          <svg v-if="r.colour" width="11" height="11" viewBox="-5 -5 10 10" aria-hidden="true">
            <circle v-if="n === 2" r="3.4" fill="none" :stroke="r.colour" stroke-width="2" />
            <ellipse v-else rx="4.4" :ry="n === 1 ? 2.6 : 4.4" :fill="r.colour" />
          </svg>
          {{ label(r.name) }}
        </label>
        <span class="n">{{ r.count.toLocaleString('en') }}</span>
        <button
          class="bare"
          :aria-label="`Only ${r.name}`"
          :aria-pressed="alone(list) && r.seen"
          @click="only(what, list, n)"
        >
          only
        </button>
      </div>
    </div>
    <div class="how">
      <label title="As large as they are; otherwise all are as large as can be seen">
        <input
          type="checkbox"
          :checked="look.trueSize"
          @change="emit('look', { ...look, trueSize: ($event.target as HTMLInputElement).checked })"
        />
        True size
      </label>
      <label title="Where many lie behind each other, it becomes lighter">
        <input
          type="checkbox"
          :checked="look.adding"
          @change="emit('look', { ...look, adding: ($event.target as HTMLInputElement).checked })"
        />
        Adding up
      </label>
    </div>
  </div>
</template>

<style scoped>
.kind,
.how {
  display: flex;
  gap: 8px;
  align-items: center;
}
.layers {
  border-top: 1px solid var(--line);
  margin-top: 3px;
  padding-top: 3px;
}
.kind label {
  flex: 1;
}
label {
  display: flex;
  gap: 5px;
  align-items: center;
  cursor: pointer;
}
.kind button {
  color: var(--accent);
  font-size: 11px;
}
.kind button[aria-pressed='true'] {
  font-weight: 700;
}
.how {
  margin-top: 3px;
  color: var(--dim);
}
</style>
