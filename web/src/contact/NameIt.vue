<script setup lang="ts">
import { nextTick, ref, watch } from 'vue'

/** A name and what it is about: for what begins, and for what is called otherwise from now on. */
const props = defineProps<{ title: string; go: string; name: string; description: string }>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ named: [name: string, description: string] }>()

const called = ref('')
const about = ref('')
const field = ref<{ focus: () => void; select: () => void }>()
watch(open, async (is) => {
  if (!is) return
  called.value = props.name
  about.value = props.description
  await nextTick()
  field.value?.focus()
  field.value?.select()
})

function done() {
  if (!called.value.trim()) return
  emit('named', called.value.trim(), about.value)
  open.value = false
}
</script>

<template>
  <v-dialog v-model="open" max-width="440">
    <form class="panel" @submit.prevent="done">
      <h2>{{ title }}</h2>
      <v-text-field ref="field" v-model="called" label="Name" maxlength="120" />
      <v-textarea v-model="about" label="What it is about" rows="3" maxlength="4000" class="mt-3" />
      <div class="ends">
        <v-btn @click="open = false">Leave it</v-btn>
        <v-btn class="go" type="submit" :disabled="!called.trim()">{{ go }}</v-btn>
      </div>
    </form>
  </v-dialog>
</template>
