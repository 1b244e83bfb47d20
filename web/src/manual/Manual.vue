<script setup lang="ts">
import { computed, nextTick, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import TopBar from '../shell/TopBar.vue'
import { label } from '../shell/words'
import { settingTables } from '../workspace/schema'
import { PAGES } from './pages'

/** The manual: pages of docs/manual, and all settings as the scene's schema has them. */
const route = useRoute()
const router = useRouter()
const SETTINGS = 'settings'
const name = computed(() => String(route.params.page || PAGES[0].name))
const page = computed(() => PAGES.find((p) => p.name === name.value))
const sought = ref('')
const tables = computed(() => {
  const words = sought.value.trim().toLowerCase()
  return settingTables()
    .map((t) => ({
      ...t,
      settings: t.settings.filter(
        (s) => !words || `${t.part} ${s.title} ${s.meaning} ${s.cost}`.toLowerCase().includes(words),
      ),
    }))
    .filter((t) => t.settings.length)
})
const text = ref<HTMLElement>()
watch(name, async () => {
  await nextTick()
  text.value?.scrollTo(0, 0)
})
/** Links within the manual stay in the page. */
function follow(event: MouseEvent) {
  const link = (event.target as HTMLElement).closest('a')?.getAttribute('href')
  if (!link?.startsWith('/manual/')) return
  event.preventDefault()
  void router.push(link)
}
const told = (value: unknown) =>
  value === null || value === undefined
    ? ''
    : Array.isArray(value)
      ? value.map((v) => +(+v).toPrecision(4)).join(', ')
      : typeof value === 'object'
        ? ''
        : String(value)
</script>

<template>
  <div class="manual">
    <TopBar><template #where>Manual</template></TopBar>
    <div class="body">
      <nav aria-label="Chapters">
        <router-link
          v-for="p in PAGES"
          :key="p.name"
          :to="`/manual/${p.name}`"
          :class="{ on: p.name === name }"
        >
          {{ p.title }}
        </router-link>
        <router-link :to="`/manual/${SETTINGS}`" :class="{ on: name === SETTINGS }">All settings</router-link>
      </nav>
      <!-- eslint-disable vue/no-v-html -- our own text, built into the page -->
      <article v-if="page" ref="text" @click="follow" v-html="page.html" />
      <!-- eslint-enable vue/no-v-html -->
      <article v-else ref="text">
        <h1>All settings</h1>
        <p class="dim">What each does to the look, and what it costs where it costs anything.</p>
        <input
          v-model="sought"
          class="seek"
          aria-label="Look for a setting"
          placeholder="Look for a setting"
        />
        <section v-for="t in tables" :key="t.part">
          <h2>{{ label(t.part) }}</h2>
          <table>
            <thead>
              <tr>
                <th>Setting</th>
                <th>Unit</th>
                <th>At first</th>
                <th>What it does</th>
                <th>Cost</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="s in t.settings" :key="s.name">
                <th scope="row">{{ s.title }}<span v-if="s.keyed" class="dim"> ◆</span></th>
                <td class="n">{{ s.unit }}</td>
                <td class="n">{{ told(s.initial) }}</td>
                <td>{{ s.meaning }}</td>
                <td>{{ s.cost }}</td>
              </tr>
            </tbody>
          </table>
        </section>
        <p class="dim">◆ can have keys over time.</p>
      </article>
    </div>
  </div>
</template>

<style scoped>
.manual {
  height: 100vh;
  display: flex;
  flex-direction: column;
}
.body {
  flex: 1;
  min-height: 0;
  display: grid;
  grid-template-columns: 236px 1fr;
}
nav {
  background: var(--pane);
  border-right: 1px solid var(--line);
  padding: 14px 10px;
  display: flex;
  flex-direction: column;
  gap: 2px;
  overflow: auto;
}
nav a {
  padding: 5px 10px;
  border-radius: 3px;
  color: var(--dim);
  text-decoration: none;
}
nav a.on {
  background: var(--raise);
  color: var(--text);
  box-shadow: inset 2px 0 0 var(--accent);
}
article {
  overflow: auto;
  padding: 22px 34px 60px;
  line-height: 1.6;
}
article :deep(h1) {
  font-size: 21px;
  margin-bottom: 10px;
}
article :deep(h2) {
  font-size: 16px;
  margin: 20px 0 6px;
}
article :deep(h3) {
  font-size: 14px;
  margin: 14px 0 4px;
}
article :deep(p),
article :deep(li) {
  max-width: 760px;
  margin-bottom: 9px;
}
article :deep(ol),
article :deep(ul) {
  padding-left: 22px;
}
article :deep(img) {
  display: block;
  max-width: min(100%, 900px);
  margin: 10px 0 16px;
  border: 1px solid var(--line);
  border-radius: 3px;
}
article :deep(code) {
  font-family: 'IBM Plex Mono', monospace;
  font-size: 12.5px;
  background: var(--deep);
  padding: 0 4px;
  border-radius: 2px;
}
article :deep(a) {
  color: var(--accent);
}
article :deep(table) {
  border-collapse: collapse;
  margin: 8px 0 14px;
  font-size: 13px;
}
article :deep(th),
article :deep(td) {
  text-align: left;
  vertical-align: top;
  padding: 4px 14px 4px 0;
  border-bottom: 1px solid var(--line);
}
article :deep(tbody th) {
  font-weight: 500;
  white-space: nowrap;
}
.seek {
  width: 300px;
  padding: 5px 9px;
  color: var(--text);
  background: var(--deep);
  border: 1px solid var(--line);
  border-radius: 3px;
}
</style>
