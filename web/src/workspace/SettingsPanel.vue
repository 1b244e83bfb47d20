<script setup lang="ts">
import { computed, ref } from 'vue'

import type { Said, Schemas } from '../api/client'
import SaidList from '../shell/SaidList.vue'
import { bytes, count, duration, label } from '../shell/words'
import ItemList from './ItemList.vue'
import { counts, settingsOf, settingsOfElement, settingsOfScene, type Setting } from './schema'
import SettingRow from './SettingRow.vue'
import type { SceneDocument } from './useTake'

/** Settings of what is picked, made from the scene schema; forecast and advice at its foot. */
const props = defineProps<{
  take: number
  scene: SceneDocument
  part: string
  element: number | null
  frame: number
  forecast: Schemas['ForecastReply'] | null
  stages: Schemas['StageCard'][]
  problems: Said[]
  remarks: Said[]
  solid: string | null
  caches: { folder: string; name: string }[]
}>()
const emit = defineEmits<{
  keep: [scene: SceneDocument]
  remove: []
  solid: []
  remedy: [remedy: Schemas['Remedy']]
}>()

const settings = computed<Setting[]>(() => {
  if (props.element !== null && props.scene.elements[props.element])
    return settingsOfElement(props.scene.elements[props.element], props.element)
  const stage = props.stages.find((s) => s.name === props.part)
  if (stage) return settingsOf(stage.definition, [stage.part])
  if (props.part === 'delivery') return settingsOfScene('deliveries')
  return [
    ...settingsOf('Time', ['time']),
    ...settingsOf('Domain', ['domain']),
    ...settingsOf('Quality', ['quality']),
    ...settingsOf('View', ['camera']),
  ]
})
const groups = computed(() => {
  const found = new Map<string, Setting[]>()
  for (const s of settings.value.filter((s) => counts(props.scene, s)))
    found.set(s.group, [...(found.get(s.group) ?? []), s])
  return [...found]
})
const title = computed(() =>
  props.element !== null
    ? props.scene.elements[props.element]?.name
    : (props.stages.find((s) => s.name === props.part)?.title ?? label(props.part)),
)
const timesTold = computed(() =>
  Object.entries(props.forecast?.times ?? {})
    .map(([name, t]) => `${props.stages.find((s) => s.name === name)?.title ?? name}: ${duration(t.likely)}`)
    .join(', '),
)
const fileProblems = ref<Said[]>([])
/** What is wrong, each thing once. */
const wrong = computed(() => {
  const all = [...fileProblems.value, ...props.problems]
  return all.filter((a, i) => all.findIndex((b) => a.where === b.where && a.says === b.says) === i)
})

const others = computed(() =>
  (props.scene.elements as { name: string }[]).filter((_, i) => i !== props.element).map((e) => e.name),
)

const meshShape = computed(() => {
  const e = props.element !== null ? props.scene.elements[props.element] : null
  return e?.shape?.kind === 'mesh' ? e.shape : null
})
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
        <template v-for="s in list" :key="s.path.join('.')">
          <ItemList
            v-if="s.kind === 'list'"
            :setting="s"
            :scene="scene"
            :take="take"
            :frame="frame"
            :others="others"
            :caches="caches"
            @keep="(next) => emit('keep', next)"
            @problems="(p) => (fileProblems = p)"
          >
            <template #foot="{ item }">
              <slot v-if="s.items === 'Delivery'" name="delivery" :delivery="item.name" />
            </template>
          </ItemList>
          <SettingRow
            v-else
            :setting="s"
            :scene="scene"
            :take="take"
            :frame="frame"
            :others="others"
            :caches="caches"
            @keep="(next) => emit('keep', next)"
            @problems="(p) => (fileProblems = p)"
          />
        </template>
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
      <SaidList :items="wrong" bad @remedy="(r) => emit('remedy', r)" />
      <SaidList :items="remarks" @remedy="(r) => emit('remedy', r)" />
      <div v-if="forecast && part !== 'delivery'" class="forecast n" :class="{ over: !forecast.fits }">
        <span>voxel</span><b>{{ +(forecast.voxel_size * 1000).toPrecision(3) }} mm</b> <span>memory</span
        ><b>{{ bytes(forecast.memory) }}</b> <span>voxels</span><b>{{ count(forecast.voxels) }}</b>
        <span>disk</span><b>{{ bytes(forecast.disk) }}</b> <span>particles</span
        ><b>{{ count(forecast.particles) }}</b> <span>frames</span><b>{{ forecast.frames }}</b>
        <span>time</span
        ><b class="time" :title="timesTold"
          >{{ duration(forecast.seconds.likely) }}, {{ duration(forecast.seconds.least) }} to
          {{ duration(forecast.seconds.most) }}</b
        >
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
.forecast .time {
  grid-column: 2 / 5;
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
