<script setup lang="ts">
import { ref, watch } from 'vue'

import { client, problemsOf, type Said } from '../api/client'
import SaidList from '../shell/SaidList.vue'

/** Take another password. */
const open = defineModel<boolean>({ required: true })
const old = ref('')
const fresh = ref('')
const problems = ref<Said[]>([])
const done = ref(false)

watch(open, () => {
  old.value = fresh.value = ''
  problems.value = []
  done.value = false
})

async function change() {
  const { data, error } = await client
    .PUT('/api/session/password', { body: { old: old.value, new: fresh.value } })
    .catch((error: unknown) => ({ data: undefined, error }))
  problems.value = data ? [] : problemsOf(error)
  done.value = !!data
}
</script>

<template>
  <v-dialog v-model="open" max-width="420">
    <form class="panel" @submit.prevent="change">
      <h2>Change your password</h2>
      <p class="dim">At least ten characters, not only digits, and none of the common ones.</p>
      <template v-if="!done">
        <v-text-field v-model="old" label="Old password" type="password" autocomplete="current-password" />
        <v-text-field v-model="fresh" label="New password" type="password" autocomplete="new-password" />
      </template>
      <p v-else>It is changed. You are signed out everywhere else.</p>
      <SaidList :items="problems" bad />
      <div class="ends">
        <v-btn @click="open = false">{{ done ? 'Close' : 'Leave it' }}</v-btn>
        <v-btn v-if="!done" class="go" type="submit" :disabled="!old || !fresh">Change it</v-btn>
      </div>
    </form>
  </v-dialog>
</template>

<style scoped>
form {
  display: flex;
  flex-direction: column;
  gap: 14px;
}
</style>
