<script setup lang="ts">
import { onMounted, ref } from 'vue'

import { client, problemsOf, type Schemas, type Said } from '../api/client'
import SaidList from '../shell/SaidList.vue'
import { bytes } from '../shell/words'
import TopBar from '../shell/TopBar.vue'
import Vessel from '../shell/Vessel.vue'
import { useEvents } from '../shell/useEvents'
import { useReadiness } from '../shell/useReadiness'
import { useStages } from '../shell/useStages'
import ShotStrip from './ShotStrip.vue'

const { stages } = useStages()
const titleOf = (name: string) => stages.value.find((s) => s.name === name)?.title ?? name
const readiness = useReadiness()
const productions = ref<Schemas['ProductionCard'][]>([])
const loaded = ref(false)
const problems = ref<Said[]>([])

/** Load the sheet; after a failure say so, keep what is shown, and try again. */
async function load() {
  const { data, error } = await client
    .GET('/api/productions')
    .catch((error: unknown) => ({ data: undefined, error }))
  problems.value = data ? [] : problemsOf(error)
  if (data) {
    productions.value = data
    loaded.value = true
  } else {
    setTimeout(load, 3000)
  }
}

onMounted(load)
let soon: ReturnType<typeof setTimeout> | undefined
useEvents(() => {
  soon ??= setTimeout(() => {
    soon = undefined
    void load()
  }, 1500)
})
</script>

<template>
  <div class="page">
    <TopBar
      ><template #where>Productions and shots</template>
      <span v-if="readiness" class="dim" role="status">{{ readiness }}</span></TopBar
    >
    <main>
      <SaidList :items="problems" bad />
      <p v-if="loaded && !productions.length" class="dim">No production is shared with you yet.</p>
      <section v-for="production in productions" :key="production.id">
        <h1>{{ production.name }}</h1>
        <article v-for="shot in production.shots" :key="shot.id">
          <div class="title">
            <h2>{{ shot.name }}</h2>
            <span class="n dim">frames {{ shot.first }} to {{ shot.last }}</span>
          </div>
          <router-link
            v-for="take in shot.takes"
            :key="take.id"
            :to="take.problems?.length ? `/takes/${take.id}/text` : `/takes/${take.id}`"
            class="take"
          >
            <ShotStrip
              :take="take.id"
              :first="shot.first"
              :last="shot.last"
              :ready="take.vessels[0]?.current ?? 0"
            />
            <SaidList :items="take.problems ?? []" bad />
            <div class="vessels">
              <div v-for="v in take.vessels" :key="v.stage">
                <Vessel :current="v.current" :stale="v.stale" :total="v.total" :label="titleOf(v.stage)" />
                <span>{{ titleOf(v.stage) }}</span>
                <span class="n dim">{{ v.current }}/{{ v.total }}</span>
              </div>
            </div>
            <div class="facts">
              <b>{{ take.name }}</b>
              <span class="n dim">{{ bytes(take.vessels.reduce((s, v) => s + v.bytes, 0)) }} on disk</span>
              <span class="n dim">changed {{ take.changed.slice(0, 16).replace('T', ' ') }}</span>
            </div>
          </router-link>
        </article>
      </section>
    </main>
  </div>
</template>

<style scoped>
main {
  flex: 1;
  overflow: auto;
  padding: 22px 28px;
}
h1 {
  font-size: 20px;
  font-weight: 600;
  margin-bottom: 12px;
}
article {
  border-top: 1px solid var(--line);
  padding: 14px 0 20px;
}
.title {
  display: flex;
  align-items: baseline;
  gap: 16px;
  margin-bottom: 8px;
}
h2 {
  font-size: 15px;
  font-weight: 600;
}
.take {
  display: flex;
  gap: 22px;
  align-items: center;
  color: inherit;
  text-decoration: none;
  padding: 8px;
  margin: 0 -8px;
  border-radius: 4px;
}
.take:hover {
  background: var(--pane);
}
.vessels {
  display: flex;
  gap: 14px;
}
.vessels > div,
.facts {
  display: flex;
  flex-direction: column;
  align-items: center;
  gap: 2px;
  font-size: 12px;
}
.facts {
  align-items: flex-start;
}
</style>
