<script setup lang="ts">
import { computed, onMounted, ref } from 'vue'

import { client, type Schemas } from '../api/client'
import TopBar from '../shell/TopBar.vue'
import { useEvents } from '../shell/useEvents'
import { duration } from '../shell/words'

/** Lanes over time: what waits, runs, is done or failed. */
const runs = ref<Schemas['RunReply'][]>([])
const loaded = ref(false)
const now = ref(Date.now())

async function load() {
  const { data } = await client.GET('/api/runs')
  runs.value = data ?? []
  loaded.value = true
  now.value = Date.now()
}
onMounted(load)
let soon: ReturnType<typeof setTimeout> | undefined
useEvents(() => {
  soon ??= setTimeout(() => {
    soon = undefined
    void load()
  }, 500)
})

const begin = computed(() => Math.min(...runs.value.map((r) => Date.parse(r.created)), now.value - 60000))
const at = (time: string | null) =>
  (((time ? Date.parse(time) : now.value) - begin.value) / (now.value - begin.value)) * 100
const spent = (r: Schemas['RunReply']) =>
  r.started ? ((r.finished ? Date.parse(r.finished) : now.value) - Date.parse(r.started)) / 1000 : 0

async function stop(run: number) {
  await client.POST('/api/runs/{run_id}/stop', { params: { path: { run_id: run } } })
  await load()
}
</script>

<template>
  <div class="page">
    <TopBar><template #where>Runs</template></TopBar>
    <main>
      <p v-if="loaded && !runs.length" class="dim">Nothing has run yet. Open a shot and press Run.</p>
      <div v-for="r in runs" :key="r.run" class="lane" :class="r.status">
        <router-link :to="`/takes/${r.take}`" class="what"
          ><b>{{ r.shot }}</b>
          <span class="dim">{{ r.quality }}, {{ r.stages.replace(',', ' and ') }}</span></router-link
        >
        <div class="time">
          <i class="wait" :style="{ left: `${at(r.created)}%`, right: `${100 - at(r.started)}%` }" />
          <i
            v-if="r.started"
            class="work"
            :style="{ left: `${at(r.started)}%`, right: `${100 - at(r.finished)}%` }"
          />
        </div>
        <span class="n state">{{ r.status }}</span>
        <span class="n">{{ r.done }}/{{ r.total }}</span>
        <span class="n dim"
          >{{ spent(r) ? duration(spent(r)) : ''
          }}{{ r.status === 'running' && r.seconds_left ? `, ${duration(r.seconds_left)} left` : '' }}</span
        >
        <v-btn v-if="r.status === 'running' || r.status === 'waiting'" size="small" @click="stop(r.run)"
          >Stop</v-btn
        >
        <p v-if="r.message" class="dim message">{{ r.message }}</p>
      </div>
    </main>
  </div>
</template>

<style scoped>
main {
  flex: 1;
  overflow: auto;
  padding: 18px 28px;
}
.lane {
  display: grid;
  grid-template-columns: 250px 1fr 64px 70px 120px 60px;
  gap: 14px;
  align-items: center;
  border-bottom: 1px solid var(--line);
  min-height: 44px;
}
.what {
  color: inherit;
  text-decoration: none;
  padding: 4px 0;
}
.what span {
  display: block;
  font-size: 12px;
}
.time {
  position: relative;
  height: 16px;
  background: var(--deep);
}
.time i {
  position: absolute;
  top: 7px;
  height: 2px;
  background: var(--dim);
  min-width: 2px;
}
.time .work {
  top: 2px;
  height: 12px;
  background: var(--accent);
}
.failed .work {
  background: none;
  border: 2px solid var(--coral);
}
.stopped .work {
  background: repeating-linear-gradient(90deg, var(--brass) 0 4px, transparent 4px 7px);
}
.failed .state {
  color: var(--coral);
}
.message {
  grid-column: 1 / -1;
  font-size: 12px;
  padding-bottom: 8px;
}
</style>
