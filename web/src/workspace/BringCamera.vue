<script setup lang="ts">
import { computed, ref, shallowRef } from 'vue'

import { sentences, upload, type Schemas } from '../api/client'
import type { SceneDocument } from './useTake'

/** Bring a camera in: read it as its file says or in a chosen unit and axis, say where it is, and use it. */
const props = defineProps<{ take: number }>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ made: [camera: SceneDocument] }>()

const found = shallowRef<Schemas['Camera'] | null>(null)
const unit = ref('')
const up = ref('')
const problems = ref<string[]>([])
const busy = ref(false)
let files: File[] = []

function choose(event: Event) {
  files = [...((event.target as HTMLInputElement).files ?? [])]
  void read()
}
async function read() {
  if (!files.length) return
  busy.value = true
  problems.value = []
  found.value = null
  try {
    const query = `unit=${unit.value}&up=${up.value}`
    found.value = await upload<Schemas['Camera']>(`/api/takes/${props.take}/camera?${query}`, files)
  } catch (error) {
    problems.value = sentences(error)
  }
  busy.value = false
}

type Curve = { keys: { value: number[] | number }[] }
const eye = computed(() => found.value!.camera.eye as number[] | Curve)
const first = computed(() => (Array.isArray(eye.value) ? eye.value : (eye.value.keys[0].value as number[])))
const keys = computed(() => (Array.isArray(eye.value) ? 0 : eye.value.keys.length))

function use() {
  emit('made', found.value!.camera)
  open.value = false
  found.value = null
}
</script>

<template>
  <v-dialog v-model="open">
    <div class="panel">
      <h2>Bring a camera</h2>
      <p class="dim">
        The first camera of a USD or Alembic file becomes the shot camera, with a key for each of its samples.
      </p>
      <input type="file" accept=".usd,.usda,.usdc,.usdz,.abc" aria-label="Camera file" @change="choose" />
      <div class="two">
        <label
          >Unit
          <select v-model="unit" @change="read">
            <option value="">as the file says</option>
            <option v-for="u in ['m', 'cm', 'mm', 'in', 'ft']" :key="u">{{ u }}</option>
          </select></label
        >
        <label
          >Up axis
          <select v-model="up" @change="read">
            <option value="">as the file says</option>
            <option v-for="a in ['y', 'z', 'x']" :key="a">{{ a }}</option>
          </select></label
        >
      </div>
      <p v-if="busy" class="dim">Reading…</p>
      <p v-for="p in problems" :key="p" class="sentence bad" role="alert">{{ p }}</p>
      <dl v-if="found" class="n" data-testid="camera-facts">
        <dt>read in</dt>
        <dd>{{ found.unit }}, {{ found.up }} up</dd>
        <dt>stands at</dt>
        <dd>{{ first.map((v) => +v.toPrecision(4)).join(', ') }} m</dd>
        <dt>moves</dt>
        <dd>{{ keys ? `${keys} keys` : 'no' }}</dd>
      </dl>
      <p v-if="found && !found.told && !(unit && up)" class="sentence">
        This file does not say its unit and axis: metres and Y, unless chosen above.
      </p>
      <div class="ends">
        <v-btn @click="open = false">Close</v-btn>
        <v-btn class="go" :disabled="!found" @click="use">Use it for the shot</v-btn>
      </div>
    </div>
  </v-dialog>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 10px;
  margin: 12px 0;
}
select {
  background: var(--deep);
  border: 1px solid var(--line);
  color: var(--text);
  border-radius: 2px;
  padding: 3px 8px;
  margin-left: 6px;
}
dl {
  display: grid;
  grid-template-columns: auto 1fr;
  gap: 2px 14px;
  margin-bottom: 8px;
}
dt {
  color: var(--dim);
}
.panel > p {
  margin-bottom: 8px;
}
</style>
