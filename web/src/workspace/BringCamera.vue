<script setup lang="ts">
import endings from '../api/endings.json'
import { computed, ref, shallowRef } from 'vue'

import { client, problemsOf, type Schemas, type Said } from '../api/client'
import { useBringing } from '../api/useBringing'
import SaidList from '../shell/SaidList.vue'
import UnitAxis from './UnitAxis.vue'
import type { SceneDocument } from './useTake'

/** Bring a camera in: read it as its file says or in a chosen unit and axis, say where it is, and use it. */
const props = defineProps<{ take: number }>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ made: [camera: SceneDocument] }>()

const found = shallowRef<Schemas['Camera'] | null>(null)
const unit = ref('')
const up = ref('')
const problems = ref<Said[]>([])
const { told, bring } = useBringing(props.take)
let files: File[] = []

function choose(event: Event) {
  files = [...((event.target as HTMLInputElement).files ?? [])]
  void read()
}
async function read() {
  if (!files.length) return
  problems.value = []
  found.value = null
  try {
    found.value = await bring(files, (upload) =>
      client.POST('/api/takes/{take_id}/camera', {
        params: { path: { take_id: props.take }, query: { upload, unit: unit.value, up: up.value } },
      }),
    )
  } catch (error) {
    problems.value = problemsOf(error)
  }
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
      <input type="file" :accept="endings.cameras.join()" aria-label="Camera file" @change="choose" />
      <UnitAxis v-model:unit="unit" v-model:up="up" as-told @change="read" />
      <p v-if="told" class="dim" role="status">{{ told }}</p>
      <SaidList :items="problems" bad />
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
