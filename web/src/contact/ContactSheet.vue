<script setup lang="ts">
import { computed, onMounted, ref } from 'vue'
import { useRouter } from 'vue-router'

import { client, type Schemas } from '../api/client'
import SaidList from '../shell/SaidList.vue'
import { bytes } from '../shell/words'
import TopBar from '../shell/TopBar.vue'
import Vessel from '../shell/Vessel.vue'
import { useEvents } from '../shell/useEvents'
import { useReadiness } from '../shell/useReadiness'
import { useStages } from '../shell/useStages'
import BeginShot from './BeginShot.vue'
import NameIt from './NameIt.vue'
import PeopleList from './PeopleList.vue'
import SheetMenu from './SheetMenu.vue'
import ShotStrip from './ShotStrip.vue'
import TakeOff from './TakeOff.vue'
import TakenOff from './TakenOff.vue'
import { useSheet, type Kind, type Thing } from './useSheet'

type Production = Schemas['ProductionCard']
type Card = Production | Schemas['ShotCard'] | Schemas['TakeCard']

const router = useRouter()
const { stages } = useStages()
const titleOf = (name: string) => stages.value.find((s) => s.name === name)?.title ?? name
const readiness = useReadiness()
const sheet = useSheet()
const { loaded, problems } = sheet

const archived = ref(false)
/** What is shown: all but what is in the archive, unless that is asked for. */
const seen = <T extends { archived: boolean }>(cards: T[]) =>
  cards.filter((c) => archived.value || !c.archived)
const inArchive = computed(() =>
  sheet.productions.value
    .flatMap((p) => [p, ...p.shots, ...p.shots.flatMap((s) => s.takes)])
    .reduce((n, card) => n + Number(card.archived), 0),
)

const naming = ref<{ title: string; go: string; thing?: Thing } | null>(null)
const shooting = ref<Production | null>(null)
const people = ref<Production | null>(null)
const removing = ref<Thing | null>(null)
const goneOpen = ref(false)

const thing = (kind: Kind, card: Card): Thing => ({ ...card, kind })
const mayEdit = (p: Production) => p.role !== 'viewer'

function menu(kind: Kind, card: Card, beside: Card[]) {
  const one = thing(kind, card)
  const place = beside.indexOf(card)
  return {
    thing: one,
    first: place === 0,
    last: place === beside.length - 1,
    onRename: () => (naming.value = { title: `Rename ${card.name}`, go: 'Keep it', thing: one }),
    onMove: (by: number) => sheet.change(one, { place: place + by }),
    onDuplicate: (frames: boolean) => sheet.duplicate(one, frames),
    onArchive: () => sheet.change(one, { archived: !card.archived }),
    onRemove: () => (removing.value = one),
  }
}

async function named(name: string, description: string) {
  const one = naming.value?.thing
  if (one) await sheet.change(one, { name, description })
  else await sheet.act(client.POST('/api/productions', { body: { name, description } }))
}

async function beginTake(shot: Schemas['ShotCard']) {
  const path = { shot_id: shot.id }
  const made = await sheet.act(client.POST('/api/shots/{shot_id}/takes', { params: { path } }))
  if (made?.take) await router.push(`/takes/${made.take}`)
}

onMounted(sheet.load)
let soon: ReturnType<typeof setTimeout> | undefined
useEvents(() => {
  soon ??= setTimeout(() => {
    soon = undefined
    void sheet.load()
  }, 1500)
})
</script>

<template>
  <div class="page">
    <TopBar
      ><template #where>Productions and shots</template>
      <span v-if="readiness" class="dim" role="status">{{ readiness }}</span>
      <v-btn @click="naming = { title: 'Begin a production', go: 'Begin' }">Begin a production</v-btn></TopBar
    >
    <main>
      <SaidList :items="problems" bad />
      <p v-if="!loaded" class="dim" role="status">Looking what there is…</p>
      <div v-else-if="!sheet.productions.value.length" class="nothing">
        <h1>Nothing here yet</h1>
        <p class="dim">
          A production holds shots; a shot holds takes: one set of settings each, with its frames. Begin one
          of your own, or ask somebody to let you into theirs.
        </p>
        <v-btn class="go" @click="naming = { title: 'Begin a production', go: 'Begin' }"
          >Begin a production</v-btn
        >
      </div>
      <section v-for="production in seen(sheet.productions.value)" :key="production.id">
        <div class="title">
          <h1>{{ production.name }}</h1>
          <span v-if="production.archived" class="tag">archive</span>
          <SheetMenu
            v-if="production.role === 'owner'"
            v-bind="menu('production', production, sheet.productions.value)"
          />
          <span class="space" />
          <button class="bare quiet" @click="people = production">
            {{ production.people === 1 ? 'You alone' : `${production.people} people` }}
          </button>
          <v-btn v-if="mayEdit(production)" @click="shooting = production">Begin a shot</v-btn>
        </div>
        <p v-if="production.description" class="dim about">{{ production.description }}</p>
        <p v-if="!production.shots.length" class="dim">
          No shot yet. A shot begins empty, or from a small scene that can be run at once.
        </p>
        <article v-for="shot in seen(production.shots)" :key="shot.id">
          <div class="title">
            <h2>{{ shot.name }}</h2>
            <span class="n dim">frames {{ shot.first }} to {{ shot.last }}</span>
            <span v-if="shot.archived" class="tag">archive</span>
            <span class="dim about">{{ shot.description }}</span>
            <SheetMenu v-if="mayEdit(production)" v-bind="menu('shot', shot, production.shots)">
              <button class="bare" @click="beginTake(shot)">Begin an empty take</button>
            </SheetMenu>
          </div>
          <p v-if="!shot.takes.length" class="dim">No take; begin one, or take one back.</p>
          <div v-for="take in seen(shot.takes)" :key="take.id" class="row">
            <router-link
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
                <span v-if="take.archived" class="tag">archive</span>
                <span class="dim">{{ take.description }}</span>
                <span class="n dim">{{ bytes(take.vessels.reduce((s, v) => s + v.bytes, 0)) }} on disk</span>
                <span class="n dim">changed {{ take.changed.slice(0, 16).replace('T', ' ') }}</span>
              </div>
            </router-link>
            <SheetMenu v-if="mayEdit(production)" v-bind="menu('take', take, shot.takes)" />
          </div>
        </article>
      </section>
      <footer v-if="loaded">
        <button v-if="inArchive" class="bare quiet" @click="archived = !archived">
          {{ archived ? 'Hide the archive' : `Show the archive (${inArchive})` }}
        </button>
        <button class="bare quiet" @click="goneOpen = true">Taken off</button>
      </footer>
    </main>
    <NameIt
      :model-value="!!naming"
      :title="naming?.title ?? ''"
      :go="naming?.go ?? ''"
      :name="naming?.thing?.name ?? ''"
      :description="naming?.thing?.description ?? ''"
      @update:model-value="naming = null"
      @named="named"
    />
    <BeginShot
      :model-value="!!shooting"
      :production="shooting"
      @update:model-value="shooting = null"
      @begun="(take) => router.push(`/takes/${take}`)"
    />
    <PeopleList :production="people" @leave="people = null" @changed="sheet.load()" />
    <TakeOff
      :thing="removing"
      @leave="removing = null"
      @remove="
        (one) => {
          removing = null
          void sheet.remove(one)
        }
      "
    />
    <TakenOff v-model="goneOpen" :restore="sheet.restore" />
  </div>
</template>

<style scoped>
main {
  flex: 1;
  overflow: auto;
  padding: 22px 28px;
}
.nothing {
  max-width: 520px;
  margin: 12vh auto;
}
.nothing p {
  margin: 8px 0 16px;
}
h1 {
  font-size: 20px;
  font-weight: 600;
}
section {
  margin-bottom: 26px;
}
article {
  border-top: 1px solid var(--line);
  padding: 14px 0 16px;
}
.title {
  display: flex;
  align-items: center;
  gap: 12px;
  margin-bottom: 8px;
}
.space {
  flex: 1;
}
.about {
  max-width: 70ch;
  white-space: pre-line;
}
section > .about {
  margin: -4px 0 10px;
}
h2 {
  font-size: 15px;
  font-weight: 600;
}
.quiet {
  color: var(--dim);
}
.quiet:hover {
  color: var(--text);
}
.tag {
  font-size: 11px;
  color: var(--dim);
  border: 1px solid var(--line);
  border-radius: 2px;
  padding: 0 5px;
}
.row {
  display: flex;
  align-items: center;
  margin: 0 -8px;
  border-radius: 4px;
}
.row:hover {
  background: var(--pane);
}
.take {
  flex: 1;
  display: flex;
  gap: 22px;
  align-items: center;
  color: inherit;
  text-decoration: none;
  padding: 8px;
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
footer {
  display: flex;
  gap: 20px;
  border-top: 1px solid var(--line);
  padding-top: 12px;
}
</style>
