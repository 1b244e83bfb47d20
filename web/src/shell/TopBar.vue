<script setup lang="ts">
import { useTheme } from 'vuetify'

import { ref } from 'vue'

import ChangePassword from '../session/ChangePassword.vue'
import { useSession } from '../session/useSession'

const session = useSession()
const theme = useTheme()
const changing = ref(false)

function turnLight() {
  const next = theme.global.name.value === 'dusk' ? 'daylight' : 'dusk'
  theme.change(next)
  localStorage.setItem('zinc-room', next)
}
</script>

<template>
  <header>
    <router-link to="/" class="mark" aria-label="All shots">
      <svg width="22" height="22" viewBox="0 0 22 22">
        <path d="M2 6h18l-3 12H5z" fill="none" stroke="var(--dim)" stroke-width="1.6" />
        <path d="M4 11c2-1.6 4 1.4 6.5 0S16 9.6 18 11l-1.6 6H5.6z" fill="var(--accent)" />
      </svg>
    </router-link>
    <div class="crumb"><slot name="where" /></div>
    <div class="space" />
    <slot />
    <router-link to="/runs" class="quiet">Runs</router-link>
    <router-link to="/manual" class="quiet">Manual</router-link>
    <button class="bare quiet" @click="turnLight">
      {{ theme.global.name.value === 'dusk' ? 'Daylight' : 'Dusk' }}
    </button>
    <button class="bare quiet" @click="changing = true">Password</button>
    <button class="bare quiet" @click="session.signOut()">Sign out {{ session.name }}</button>
    <ChangePassword v-model="changing" />
  </header>
</template>

<style scoped>
header {
  height: 44px;
  display: flex;
  align-items: center;
  gap: 14px;
  padding: 0 14px;
  background: var(--pane);
  border-bottom: 1px solid var(--line);
}
.space {
  flex: 1;
}
.mark {
  display: flex;
}
/* gives way first: while a run goes on its words and figures need the room */
.crumb {
  min-width: 0;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
header > :not(.crumb, .space) {
  flex-shrink: 0;
}
.quiet {
  color: var(--dim);
  text-decoration: none;
  white-space: nowrap;
}
.quiet:hover {
  color: var(--text);
}
</style>
