<script setup lang="ts">
import { computed, ref } from 'vue'

import { client, problemsOf, type Said, type Schemas } from '../api/client'
import SaidList from '../shell/SaidList.vue'
import { label } from '../shell/words'
import ForecastBox from './ForecastBox.vue'
import ItemList from './ItemList.vue'
import { counts, settingsOf, settingsOfElement, settingsOfScene, withValue, type Setting } from './schema'
import NumberField from './NumberField.vue'
import LookNumbers from './LookNumbers.vue'
import SceneTools from './SceneTools.vue'
import SeaNumbers from './SeaNumbers.vue'
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
  show: [where: Schemas['Show']]
  aside: [said: Said]
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
const fileProblems = ref<Said[]>([])
/** What is wrong, each thing once. */
const wrong = computed(() => {
  const all = [...fileProblems.value, ...props.problems]
  return all.filter((a, i) => all.findIndex((b) => a.where === b.where && a.says === b.says) === i)
})

const others = computed(() =>
  (props.scene.elements as { name: string }[]).filter((_, i) => i !== props.element).map((e) => e.name),
)

/** A coarser mesh that acts in the place of the picked one. */
const wanted = ref(5000)
const making = ref(false)
async function standIn() {
  making.value = true
  const index = props.element!
  const { data, error } = await client
    .POST('/api/takes/{take_id}/standin', {
      params: { path: { take_id: props.take } },
      body: { element: index, triangles: wanted.value },
    })
    .catch((error: unknown) => ({ data: undefined, error }))
  making.value = false
  fileProblems.value = data ? [] : problemsOf(error)
  if (data) emit('keep', withValue(props.scene, ['elements', index, 'shape'], data.shape))
}
function useFine() {
  const shape = { ...meshShape.value, file: meshShape.value!.fine, fine: '' }
  emit('keep', withValue(props.scene, ['elements', props.element!, 'shape'], shape))
}

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
      <SceneTools
        v-if="part === 'scene' && element === null"
        :take="take"
        :quality="forecast?.quality ?? 'draft'"
        :scene="scene"
        @keep="(s) => emit('keep', s)"
      />
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
      <SeaNumbers
        v-if="element === null && scene.sea.made && stages.find((s) => s.name === part)?.part === 'sea'"
        :take="take"
        :quality="forecast?.quality ?? 'draft'"
        :scene="scene"
        @keep="(next) => emit('keep', next)"
      />
      <LookNumbers
        v-if="element !== null && ['fill', 'inflow'].includes(scene.elements[element]?.kind)"
        :take="take"
        :quality="forecast?.quality ?? 'draft'"
        :element="element"
        :scene="scene"
      />
      <p v-if="element !== null && scene.elements[element]?.kind === 'collider'" class="dim small">
        <button class="bare apply flush" @click="emit('solid')">
          {{ solid ? 'Hide the solver’s solid' : 'Show the solver’s solid' }}
        </button>
        <span v-if="solid" class="told" data-testid="solid-error">{{ solid }}</span>
      </p>
      <template v-if="meshShape">
        <p class="dim small">Unit and up axis say how the file is read; the mesh itself stays as it is.</p>
        <p v-if="meshShape.fine" class="dim small">
          A stand-in acts; the fine mesh is shown and delivered.
          <button class="bare apply" @click="useFine">Let the fine mesh act</button>
        </p>
        <p v-else-if="!meshShape.animated && !meshShape.file?.includes('#')" class="dim small stand">
          Too dense to act? A stand-in of
          <NumberField
            label="Triangles of a stand-in"
            :value="wanted"
            whole
            @keep="(v) => (wanted = v ?? 0)"
          />
          triangles
          <button class="bare apply" :disabled="making" @click="standIn">
            {{ making ? 'being made…' : 'Make it' }}
          </button>
        </p>
      </template>
    </div>
    <div class="foot">
      <SaidList :items="wrong" bad @remedy="(r) => emit('remedy', r)" />
      <SaidList
        :items="remarks"
        asides
        @remedy="(r) => emit('remedy', r)"
        @show="(w) => emit('show', w)"
        @aside="(s) => emit('aside', s)"
      />
      <ForecastBox
        v-if="forecast && part !== 'delivery'"
        :take="take"
        :forecast="forecast"
        :stages="stages"
        @voxel="(size) => emit('keep', withValue(scene, ['liquid', 'voxel_size'], size))"
      />
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
.apply {
  color: var(--accent);
  text-decoration: underline;
  margin-left: 6px;
}
.small {
  font-size: 11.5px;
  margin-top: 6px;
}
.stand .number {
  display: inline-flex;
  width: 80px;
  vertical-align: middle;
}
.apply.flush {
  margin-left: 0;
}
.told {
  display: block;
  margin-top: 2px;
}
</style>
