<script setup lang="ts">
import endings from '../api/endings.json'
import { ref, watch } from 'vue'

import { client, problemsOf, type Schemas, type Said } from '../api/client'
import { useBringing } from '../api/useBringing'
import SaidList from '../shell/SaidList.vue'
import UnitAxis from './UnitAxis.vue'

/** Bring a mesh in: read it, say what it is, choose unit and axis, and decide what it becomes. */
const props = defineProps<{ take: number; unit?: string; up?: string }>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ made: [kind: string, name: string, facts: Schemas['MeshReply'], side?: string] }>()

const facts = ref<Schemas['MeshReply'] | null>(null)
const unit = ref(props.unit ?? 'm')
const up = ref(props.up ?? 'y')
watch(
  () => [props.unit, props.up],
  ([own, axis]) => {
    unit.value = own ?? 'm'
    up.value = axis ?? 'y'
  },
)
const name = ref('')
const problems = ref<Said[]>([])
const { told, bring } = useBringing(props.take)

async function read(event: Event) {
  const files = [...((event.target as HTMLInputElement).files ?? [])]
  if (!files.length) return
  problems.value = []
  facts.value = null
  try {
    const got = await bring(files, (upload) =>
      client.POST('/api/takes/{take_id}/meshes', {
        params: { path: { take_id: props.take }, query: { upload, unit: unit.value, up: up.value } },
      }),
    )
    facts.value = got
    const { told_unit, told_up } = got
    if ((told_unit && told_unit !== unit.value) || (told_up && told_up !== up.value)) {
      unit.value = told_unit ?? unit.value
      up.value = told_up ?? up.value
      await again()
    }
    const stem = files[0].name.replace(/\.[^.]+$/, '')
    name.value = (files.length > 1 ? stem.replace(/[._-]*\d+$/, '') : stem).replaceAll('_', ' ')
  } catch (error) {
    problems.value = problemsOf(error)
  }
}

async function again() {
  if (!facts.value) return
  const { data, error } = await client.GET('/api/takes/{take_id}/meshes/facts', {
    params: {
      path: { take_id: props.take },
      query: { file: facts.value.file, unit: unit.value, up: up.value },
    },
  })
  if (data) facts.value = data
  else problems.value = problemsOf(error)
}

function useProposed() {
  unit.value = facts.value!.proposed_unit!
  void again()
}

function make(kind: string, side?: string) {
  emit('made', kind, name.value || 'Mesh', facts.value!, side)
  open.value = false
  facts.value = null
}
const metres = (v: number) => `${+v.toPrecision(4)}`
</script>

<template>
  <v-dialog v-model="open">
    <div class="panel">
      <h2>Import a mesh</h2>
      <p class="dim">
        An OBJ, PLY, STL, glTF, USD or Alembic file, or the numbered files of a mesh that deforms: one for
        each frame, with the same points. Animation in a USD or Alembic file is followed. They are kept beside
        the scene as they are.
      </p>
      <input type="file" multiple :accept="endings.meshes.join()" aria-label="Mesh file" @change="read" />
      <UnitAxis v-model:unit="unit" v-model:up="up" @change="again" />
      <p v-if="told" class="dim" role="status">{{ told }}</p>
      <SaidList :items="problems" bad />
      <template v-if="facts">
        <dl class="n" data-testid="mesh-facts">
          <dt>size</dt>
          <dd>{{ facts.size.map(metres).join(' × ') }} m</dd>
          <template v-if="facts.frames > 1">
            <dt>{{ facts.animated ? 'moments' : 'files' }}</dt>
            <dd>{{ facts.frames }}</dd>
          </template>
          <dt>triangles</dt>
          <dd>{{ facts.triangles.toLocaleString('en') }}</dd>
          <dt>open edges</dt>
          <dd>{{ facts.open_edges }}</dd>
        </dl>
        <p v-if="facts.open_edges" class="sentence bad">
          {{ facts.open_edges }} open edges: an open mesh can be a shell or the ground. To fill it or to keep
          liquid out of it, close it in the modelling program and import it again.
        </p>
        <p v-if="facts.told_up" class="dim">Unit and axis are as the file says.</p>
        <p v-if="facts.proposed_unit" class="sentence">
          That is out of proportion to the domain. Is its unit {{ facts.proposed_unit }}?
          <button class="bare apply" @click="useProposed">Use {{ facts.proposed_unit }}</button>
        </p>
        <v-text-field v-model="name" label="Name" class="mt-3" />
      </template>
      <div class="ends">
        <v-btn @click="open = false">Close</v-btn>
        <template v-if="facts?.open_edges">
          <v-btn @click="make('collider', 'ground')">Make it the ground</v-btn>
          <v-btn class="go" @click="make('collider', 'shell')">Make it a shell</v-btn>
        </template>
        <template v-else>
          <v-btn :disabled="!facts" @click="make('fill')">Fill it</v-btn>
          <v-btn class="go" :disabled="!facts" @click="make('collider')">Make it a collider</v-btn>
        </template>
      </div>
    </div>
  </v-dialog>
</template>

<style scoped>
.apply {
  color: var(--accent);
  text-decoration: underline;
}
</style>
