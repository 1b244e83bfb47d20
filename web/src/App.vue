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
      <SignIn v-else />
    </template>
  </v-app>
</template>
