<script setup lang="ts">
import { ref, watch } from 'vue'

import { client, problemsOf, type Said, type Schemas } from '../api/client'
import SaidList from '../shell/SaidList.vue'

/** Who has a part in a production; its owners let people in, and out. */
type Role = Schemas['Person']['role']
const ROLES: [Role, string][] = [
  ['viewer', 'looks and judges'],
  ['editor', 'sets up, runs, delivers'],
  ['owner', 'and lets people in'],
]
const props = defineProps<{ production: Schemas['ProductionCard'] | null }>()
const emit = defineEmits<{ leave: []; changed: [] }>()

const people = ref<Schemas['Person'][] | null>(null)
const problems = ref<Said[]>([])
const name = ref('')
const role = ref<Role>('editor')
const at = () => ({ production_id: props.production!.id })

async function take(asked: Promise<{ data?: Schemas['Person'][]; error?: unknown }>): Promise<boolean> {
  const { data, error } = await asked.catch((error: unknown) => ({ data: undefined, error }))
  problems.value = data ? [] : problemsOf(error)
  people.value = data ?? people.value
  return !!data
}

watch(
  () => props.production?.id,
  (id) => {
    people.value = null
    problems.value = []
    if (id) void take(client.GET('/api/productions/{production_id}/people', { params: { path: at() } }))
  },
)

async function give(who: string, part: Role) {
  const asked = client.PUT('/api/productions/{production_id}/people', {
    params: { path: at() },
    body: { name: who, role: part },
  })
  if (!(await take(asked))) return
  if (who === name.value.trim()) name.value = ''
  emit('changed')
}

async function end(who: string) {
  const path = { ...at(), name: who }
  if (await take(client.DELETE('/api/productions/{production_id}/people/{name}', { params: { path } })))
    emit('changed')
}
</script>

<template>
  <v-dialog :model-value="!!production" max-width="520" @update:model-value="emit('leave')">
    <div v-if="production" class="panel">
      <h2>People of {{ production.name }}</h2>
      <p v-if="!people" class="dim">Looking…</p>
      <div v-for="p in people ?? []" :key="p.name" class="person">
        <b>{{ p.name }}</b>
        <select
          :value="p.role"
          :disabled="production.role !== 'owner'"
          :aria-label="`Role of ${p.name}`"
          @change="give(p.name, ($event.target as HTMLSelectElement).value as Role)"
        >
          <option v-for="[r] in ROLES" :key="r">{{ r }}</option>
        </select>
        <button v-if="production.role === 'owner'" class="bare dim" @click="end(p.name)">Let go</button>
      </div>
      <form v-if="production.role === 'owner'" class="person" @submit.prevent="give(name.trim(), role)">
        <input v-model="name" placeholder="Name of an account" aria-label="Name of an account" />
        <select v-model="role" aria-label="Role">
          <option v-for="[r] in ROLES" :key="r">{{ r }}</option>
        </select>
        <v-btn type="submit" :disabled="!name.trim()">Let in</v-btn>
      </form>
      <p class="dim said">
        <span v-for="[r, does] in ROLES" :key="r"
          ><b>{{ r }}</b> {{ does }}</span
        >
      </p>
      <SaidList :items="problems" bad />
      <div class="ends"><v-btn @click="emit('leave')">Close</v-btn></div>
    </div>
  </v-dialog>
</template>

<style scoped>
.person {
  display: grid;
  grid-template-columns: 1fr 110px 84px;
  gap: 10px;
  align-items: center;
  padding: 6px 0;
  border-top: 1px solid var(--line);
}
select,
input {
  background: var(--raise);
  border: 1px solid var(--line);
  border-radius: 3px;
  color: var(--text);
  padding: 5px 7px;
}
.said {
  display: flex;
  gap: 16px;
  font-size: 12px;
  margin-top: 8px;
}
</style>
