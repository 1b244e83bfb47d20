<script setup lang="ts">
import { computed } from 'vue'

import { label } from '../shell/words'
import { counts, itemOf, settingsOfItem, valueAt, withValue, type Setting } from './schema'
import SettingRow from './SettingRow.vue'
import type { Said } from '../api/client'
import type { SceneDocument } from './useTake'

/** A list of parts in their order: put one in, move it, take it out, and its settings. */
const props = defineProps<{
  setting: Setting
  scene: SceneDocument
  take: number
  frame: number
  others: string[]
  caches: { folder: string; name: string }[]
}>()
const emit = defineEmits<{ keep: [scene: SceneDocument]; problems: [problems: Said[]] }>()

const MANY = 24
const items = computed(() => (valueAt(props.scene, props.setting.path) ?? []) as SceneDocument[])
const one = computed(() => {
  const words: Record<string, string> = { JoinedCache: 'cache', Where: 'limit' }
  return words[props.setting.items] ?? props.setting.items.toLowerCase()
})
const put = (next: SceneDocument[]) => emit('keep', withValue(props.scene, props.setting.path, next))

function add() {
  const made = itemOf(props.setting.items, props.scene.domain)
  if (made.name) {
    const names = new Set(items.value.map((i) => i.name))
    const plain = made.name
    for (let n = 1; names.has(made.name); n++) made.name = `${plain} ${n + 1}`
  }
  put([...items.value, made])
}
function move(i: number, by: number) {
  const next = [...items.value]
  const [item] = next.splice(i, 1)
  next.splice(i + by, 0, item)
  put(next)
}
const takeOut = (i: number) => put(items.value.filter((_, n) => n !== i))

const rows = (i: number) =>
  settingsOfItem(props.setting.items, [...props.setting.path, i], items.value[i]).filter((s) =>
    counts(props.scene, s),
  )
/** The same in groups that open and close, where there are many; else in one, without a heading. */
const groups = (i: number) => {
  const found = new Map<string, Setting[]>()
  for (const s of rows(i)) found.set(s.group, [...(found.get(s.group) ?? []), s])
  return rows(i).length > MANY ? [...found] : [['', rows(i)] as [string, Setting[]]]
}
const title = (item: SceneDocument) =>
  label(String(item.name ?? item.does ?? item.by ?? item.shape?.kind ?? one.value))
</script>

<template>
  <div class="items" :data-list="setting.name">
    <article v-for="(item, i) in items" :key="i" class="item" :aria-label="`${one} ${i + 1}`">
      <header>
        <span class="n dim">{{ i + 1 }}</span> <b>{{ title(item) }}</b>
        <button
          class="bare"
          :disabled="i === 0"
          :aria-label="`Move ${one} ${i + 1} up`"
          title="Up"
          @click="move(i, -1)"
        >
          ↑
        </button>
        <button
          class="bare"
          :disabled="i === items.length - 1"
          :aria-label="`Move ${one} ${i + 1} down`"
          title="Down"
          @click="move(i, 1)"
        >
          ↓
        </button>
        <button class="bare" :aria-label="`Take ${one} ${i + 1} out`" title="Take out" @click="takeOut(i)">
          ✕
        </button>
      </header>
      <component
        :is="group ? 'details' : 'div'"
        v-for="([group, list], n) in groups(i)"
        :key="group"
        :open="group && n === 0 ? true : undefined"
      >
        <summary v-if="group">{{ group }}</summary>
        <template v-for="s in list" :key="s.path.join('.')">
          <ItemList
            v-if="s.kind === 'list'"
            v-bind="{ ...props, setting: s }"
            @keep="(next) => emit('keep', next)"
            @problems="(p) => emit('problems', p)"
          />
          <SettingRow
            v-else
            v-bind="{ ...props, setting: s }"
            @keep="(next) => emit('keep', next)"
            @problems="(p) => emit('problems', p)"
          />
        </template>
      </component>
      <slot name="foot" :item="item" />
    </article>
    <span v-if="!items.length" class="dim none">No {{ setting.title.toLowerCase() }}.</span>
    <button class="bare add" @click="add">Put in a {{ one }}</button>
  </div>
</template>

<style scoped>
.items {
  margin: 2px 0 8px;
}
.none {
  font-size: 12px;
  margin-right: 8px;
}
.item {
  border: 1px solid var(--line);
  border-radius: 3px;
  padding: 4px 7px 6px;
  margin-bottom: 5px;
}
header {
  display: flex;
  gap: 6px;
  align-items: baseline;
  font-size: 12px;
}
header b {
  flex: 1;
  font-weight: 600;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
header button {
  color: var(--dim);
  padding: 0 3px;
}
header button:hover:not(:disabled) {
  color: var(--text);
}
header button:disabled {
  opacity: 0.3;
}
summary {
  font-size: 11px;
  color: var(--dim);
  cursor: pointer;
  margin: 4px 0 2px;
}
.add {
  font-size: 12px;
  color: var(--accent);
}
</style>
