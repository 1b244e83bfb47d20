<script setup lang="ts">
import { useSession } from './session/useSession'
import SignIn from './session/SignIn.vue'

const session = useSession()
void session.ask()
</script>

<template>
  <v-app>
    <template v-if="session.known">
      <router-view v-if="session.name" />
      <SignIn v-if="!session.name || session.lapsed" :class="{ above: session.lapsed }" />
    </template>
  </v-app>
</template>

<style scoped>
.above {
  position: fixed;
  inset: 0;
  z-index: 3000;
}
</style>
