<script setup lang="ts">
import { onMounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { client, plainly, problemsOf, type Said, type Schemas } from '../api/client'
import SaidList from '../shell/SaidList.vue'
import TopBar from '../shell/TopBar.vue'
import TakeOff from './TakeOff.vue'
import type { Thing } from './useSheet'

/** A take's document as text: where one that cannot be used is mended, or taken off the sheet. */
const id = Number(useRoute().params.id)
const router = useRouter()
const take = ref<Schemas['TakeText'] | null>(null)
const text = ref('')
const problems = ref<Said[]>([])
const removing = ref<Thing | null>(null)

onMounted(async () => {
  const path = { take_id: id }
  const { data, error } = await client
    .GET('/api/takes/{take_id}/text', { params: { path } })
    .catch((error: unknown) => ({ data: undefined, error }))
  if (!data) return (problems.value = problemsOf(error))
  take.value = data
  text.value = data.text
  problems.value = data.problems
})

async function keep() {
  const { data, error } = await client
    .PUT('/api/takes/{take_id}/text', {
      params: { path: { take_id: id } },
      body: { revision: take.value!.revision, text: text.value },
    })
    .catch((error: unknown) => ({ data: undefined, error }))
  if (data) await router.push(`/takes/${id}`)
  else problems.value = problemsOf(error)
}

function ask() {
  removing.value = { kind: 'take', id, name: take.value!.name, description: '', archived: false }
}

async function remove() {
  const { data, error } = await client
    .DELETE('/api/sheet/{kind}/{key}', { params: { path: { kind: 'take', key: id } } })
    .catch(() => ({
      data: undefined,
      error: { problems: [plainly('The server does not answer; try again.')] },
    }))
  removing.value = null
  if (data) await router.push('/')
  else problems.value = problemsOf(error)
}
</script>

<template>
  <div class="page">
    <TopBar
      ><template #where>{{
        take ? `${take.shot}, ${take.name}, as text` : 'A take as text'
      }}</template></TopBar
    >
    <main v-if="take">
      <p class="dim">
        The take's document, as it is kept. Undo here is the browser's own; nothing is changed before you keep
        it.
      </p>
      <SaidList :items="problems" bad />
      <textarea v-model="text" class="n" spellcheck="false" aria-label="The take's document"></textarea>
      <div class="ends">
        <v-btn @click="ask">Take it off the sheet</v-btn>
        <span class="space" />
        <v-btn to="/">Leave it</v-btn>
        <v-btn class="go" :disabled="text === take.text" @click="keep">Keep it</v-btn>
      </div>
    </main>
    <main v-else><SaidList :items="problems" bad /></main>
    <TakeOff :thing="removing" @leave="removing = null" @remove="remove" />
  </div>
</template>

<style scoped>
main {
  flex: 1;
  min-height: 0;
  display: flex;
  flex-direction: column;
  gap: 12px;
  padding: 18px 28px;
}
textarea {
  flex: 1;
  padding: 12px;
  background: var(--pane);
  color: var(--text);
  border: 1px solid var(--line);
  border-radius: 4px;
  resize: none;
}
.ends {
  display: flex;
  gap: 10px;
}
.space {
  flex: 1;
}
</style>
