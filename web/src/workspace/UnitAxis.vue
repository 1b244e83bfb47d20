<script setup lang="ts">
/** Which unit and up axis a file is read in; `asTold` lets the file say. */
defineProps<{ asTold?: boolean }>()
const unit = defineModel<string>('unit', { required: true })
const up = defineModel<string>('up', { required: true })
const emit = defineEmits<{ change: [] }>()
</script>

<template>
  <div class="two">
    <label
      >Unit
      <select v-model="unit" @change="emit('change')">
        <option v-if="asTold" value="">as the file says</option>
        <option v-for="u in ['m', 'cm', 'mm', 'in', 'ft']" :key="u">{{ u }}</option>
      </select></label
    >
    <label
      >Up axis
      <select v-model="up" @change="emit('change')">
        <option v-if="asTold" value="">as the file says</option>
        <option v-for="a in ['y', 'z', 'x']" :key="a">{{ a }}</option>
      </select></label
    >
  </div>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 10px;
  margin: 12px 0;
}
select {
  background: var(--deep);
  border: 1px solid var(--line);
  color: var(--text);
  border-radius: 2px;
  padding: 3px 8px;
  margin-left: 6px;
}
</style>
