<script setup lang="ts">
import { onMounted, ref, useTemplateRef } from 'vue'

import type { Said } from '../api/client'
import SaidList from '../shell/SaidList.vue'
import { useSession } from './useSession'

const session = useSession()
const name = ref(session.name ?? '')
const password = ref('')
const problems = ref<Said[]>([])
const asking = ref(false)

// the field's own autofocus waits until it is seen, and then takes the focus from who has gone on to the password
const first = useTemplateRef<{ focus: () => void }>('first')
const second = useTemplateRef<{ focus: () => void }>('second')
onMounted(() => {
  const take = () => (name.value ? second : first).value?.focus()
  // who is typing on the page below finishes that first: it is an edit, which is kept as soon as they are back
  const typing = document.activeElement
  if (!(typing instanceof HTMLInputElement || typing instanceof HTMLTextAreaElement)) return take()
  const left = new AbortController()
  for (const event of ['change', 'blur'])
    typing.addEventListener(event, () => (left.abort(), take()), { signal: left.signal })
})

async function submit() {
  if (asking.value) return // a second answer would replace the first one's session
  asking.value = true
  problems.value = await session.signIn(name.value, password.value)
  asking.value = false
}
</script>

<template>
  <main class="door">
    <form @submit.prevent="submit">
      <svg width="74" height="74" viewBox="0 0 22 22" aria-hidden="true">
        <path d="M2 6h18l-3 12H5z" fill="none" stroke="var(--dim)" stroke-width="0.7" />
        <path d="M4 11c2-1.6 4 1.4 6.5 0S16 9.6 18 11l-1.6 6H5.6z" fill="var(--accent)" />
      </svg>
      <h1>Zinc Basin</h1>
      <p v-if="session.lapsed" class="dim">
        You have been signed out. Sign in again; nothing on this page is lost.
      </p>
      <p v-else class="dim">Pours, splashes and seas, from particles to surfaces.</p>
      <v-text-field ref="first" v-model="name" label="Name" autocomplete="username" />
      <v-text-field
        ref="second"
        v-model="password"
        label="Password"
        type="password"
        autocomplete="current-password"
      />
      <SaidList :items="problems" bad />
      <v-btn class="go" type="submit" :loading="asking" block>Sign in</v-btn>
    </form>
  </main>
</template>

<style scoped>
.door {
  height: 100vh;
  display: grid;
  place-items: center;
  background: radial-gradient(
    ellipse at 50% 120%,
    color-mix(in srgb, var(--accent) 16%, var(--bg)) 0,
    var(--bg) 60%
  );
}
form {
  width: 300px;
  display: flex;
  flex-direction: column;
  gap: 14px;
}
h1 {
  font-size: 26px;
  font-weight: 600;
  margin-top: -6px;
}
p.dim {
  margin-top: -12px;
}
</style>
