<script setup lang="ts">
import type { Shortcut } from './useShortcuts'

/** What keys and pointer do. */
defineProps<{ shortcuts: Shortcut[] }>()
const open = defineModel<boolean>({ required: true })
</script>

<template>
  <v-dialog v-model="open" max-width="760">
    <div class="panel">
      <h2>Keyboard</h2>
      <dl>
        <template v-for="s in shortcuts" :key="s[0]">
          <dt class="n">{{ s[0] }}</dt>
          <dd>{{ s[1] }}</dd>
        </template>
        <dt class="n">Ctrl Z</dt>
        <dd>undo a change of the scene; with Shift, redo</dd>
        <dt class="n">Ctrl C, V</dt>
        <dd>hold a copy of what is picked, put in what is held</dd>
        <dt class="n">F2</dt>
        <dd>rename the element that has the focus</dd>
      </dl>
      <p class="dim">
        Drag turns the view, with the right button it moves it, the wheel comes nearer. A press picks.
      </p>
    </div>
  </v-dialog>
</template>

<style scoped>
dl {
  columns: 2;
  column-gap: 28px;
  margin-bottom: 10px;
}
dt {
  float: left;
  clear: left;
  width: 78px;
  color: var(--dim);
}
dd {
  margin-left: 82px;
  min-height: 22px;
  break-inside: avoid;
}
</style>
