<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { client, problemsOf, type Said, type Schemas } from '../api/client'
import SaidList from '../shell/SaidList.vue'
import UnitAxis from '../workspace/UnitAxis.vue'
import StartSketch from './StartSketch.vue'

/** What is asked once of a shot: what it begins with, its frames, and how geometry comes in. */
const props = defineProps<{ production: Schemas['ProductionCard'] | null }>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ begun: [take: number] }>()

const starts = ref<Schemas['StartCard'][]>([])
const start = ref('')
const name = ref('')
const first = ref(1)
const last = ref(96)
const fps = ref(24)
const unit = ref('m')
const up = ref('y')
const problems = ref<Said[]>([])
const busy = ref(false)

watch(open, async (is) => {
  if (!is) return
  problems.value = []
  name.value = nextName(props.production?.shots.map((s) => s.name) ?? [])
  pick('')
  if (!starts.value.length) starts.value = (await client.GET('/api/starts').catch(() => null))?.data ?? []
})

/** The name after the last one: AB010 is followed by AB020. */
function nextName(names: string[]): string {
  const found = /^(.*?)(\d+)/.exec(names.at(-1) ?? '')
  if (!found) return 'Shot 010'
  const step = +found[2] % 10 ? 1 : 10
  return found[1] + String(+found[2] + step).padStart(found[2].length, '0')
}

function pick(which: string) {
  start.value = which
  const found = starts.value.find((s) => s.name === which)
  first.value = found?.first ?? 1
  last.value = found?.last ?? 96
  fps.value = found?.fps ?? 24
}

const seconds = computed(() => (last.value - first.value) / fps.value)

async function begin() {
  busy.value = true
  const body = {
    name: name.value,
    description: '',
    start: start.value,
    first: first.value,
    last: last.value,
    fps: fps.value,
    unit: unit.value as 'm',
    up: up.value as 'y',
  }
  const { data, error } = await client
    .POST('/api/productions/{production_id}/shots', {
      params: { path: { production_id: props.production!.id } },
      body,
    })
    .catch((error: unknown) => ({ data: undefined, error }))
  busy.value = false
  problems.value = data ? [] : problemsOf(error)
  if (!data?.take) return
  open.value = false
  emit('begun', data.take)
}
</script>

<template>
  <v-dialog v-model="open" max-width="760">
    <form class="panel" @submit.prevent="begin">
      <h2>Begin a shot in {{ production?.name }}</h2>
      <div class="starts" role="radiogroup" aria-label="Begin with">
        <button
          v-for="s in [{ name: '', title: 'Nothing yet', says: 'An empty domain.' }, ...starts]"
          :key="s.name"
          type="button"
          class="bare start"
          role="radio"
          :aria-checked="start === s.name"
          :class="{ on: start === s.name }"
          @click="pick(s.name)"
        >
          <StartSketch :name="s.name" />
          <b>{{ s.title }}</b>
          <span class="dim">{{ s.says }}</span>
        </button>
      </div>
      <v-text-field v-model="name" label="Name" maxlength="120" />
      <div class="asked">
        <label
          >Frames <input v-model.number="first" class="n" type="number" min="0" aria-label="First frame"
        /></label>
        <label
          >to <input v-model.number="last" class="n" type="number" min="0" aria-label="Last frame"
        /></label>
        <label
          >at
          <input v-model.number="fps" class="n" type="number" min="1" step="any" aria-label="Frame rate" /> a
          second</label
        >
        <span v-if="seconds > 0" class="n dim">{{ seconds.toFixed(2) }} s</span>
      </div>
      <p class="dim">Geometry that is brought in is in</p>
      <UnitAxis v-model:unit="unit" v-model:up="up" />
      <SaidList :items="problems" bad />
      <div class="ends">
        <v-btn @click="open = false">Leave it</v-btn>
        <v-btn class="go" type="submit" :disabled="!name.trim() || busy">Begin</v-btn>
      </div>
    </form>
  </v-dialog>
</template>

<style scoped>
.starts {
  display: grid;
  grid-template-columns: repeat(4, 1fr);
  gap: 8px;
  margin-bottom: 14px;
}
.start {
  display: flex;
  flex-direction: column;
  gap: 2px;
  padding: 8px 10px;
  border: 1px solid var(--line);
  border-radius: 3px;
  font-size: 12px;
}
.start:hover {
  background: var(--raise);
}
.start.on {
  border-color: var(--accent);
  box-shadow: inset 0 -2px 0 var(--accent);
}
.asked {
  display: flex;
  align-items: center;
  gap: 10px;
  margin: 10px 0;
}
.asked input {
  width: 74px;
  background: var(--raise);
  border: 1px solid var(--line);
  border-radius: 3px;
  color: var(--text);
  padding: 4px 6px;
  margin: 0 4px;
}
</style>
