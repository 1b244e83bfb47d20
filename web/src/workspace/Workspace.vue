<script setup lang="ts">
import { computed, nextTick, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { useRoute } from 'vue-router'

import { plainly, type Said, type Schemas } from '../api/client'
import SaidList from '../shell/SaidList.vue'
import TopBar from '../shell/TopBar.vue'
import { useReadiness } from '../shell/useReadiness'
import { useStages } from '../shell/useStages'
import { Viewport } from '../viewport/viewport'
import BirthRange from './BirthRange.vue'
import BringCamera from './BringCamera.vue'
import CurveEditor from './CurveEditor.vue'
import DeleteFrames from './DeleteFrames.vue'
import DeliveryState from './DeliveryState.vue'
import ElementList from './ElementList.vue'
import FrameStrip from './FrameStrip.vue'
import ImportMesh from './ImportMesh.vue'
import JudgeBar from './JudgeBar.vue'
import { keyboard } from './keyboard'
import KeyboardList from './KeyboardList.vue'
import KindList from './KindList.vue'
import Legend from './Legend.vue'
import RunState from './RunState.vue'
import { withValue } from './schema'
import SettingsPanel from './SettingsPanel.vue'
import StageRail from './StageRail.vue'
import { useCaches } from './useCaches'
import { useDeliveries } from './useDeliveries'
import { useElements } from './useElements'
import { usePlayback } from './usePlayback'
import PlacingLayer from './PlacingLayer.vue'
import ReferenceMovie from './ReferenceMovie.vue'
import RehearsalBar from './RehearsalBar.vue'
import { useBackdrop } from './useBackdrop'
import { EMPTY, useBirths } from './useBirths'
import { useDropping } from './useDropping'
import { usePlacing } from './usePlacing'
import { useRun } from './useRun'
import { useShortcuts, type Shortcut } from './useShortcuts'
import { JUDGE, REHEARSE, useShown } from './useShown'
import { useRehearsal } from './useRehearsal'
import { useSolid } from './useSolid'
import { useTake, type SceneDocument } from './useTake'
import { useViews } from './useViews'
import { vesselsOf } from './vessels'
import ViewMenu from './ViewMenu.vue'
import ViewPanes from './ViewPanes.vue'
import ViewportChips from './ViewportChips.vue'

const id = Number(useRoute().params.id)
const { stages, ready: stagesThere } = useStages()
const readiness = useReadiness()
const take = useTake(id)
const { scene, quality, reports, report } = take
const concerned = computed(() => stages.value.filter((s) => report.value[s.name]))
/** Stages that a press can make: those that are wanted, where a setting says so. */
const wanted = computed(() =>
  concerned.value.filter((s) => !s.asked_by || scene.value?.[s.part]?.[s.asked_by]),
)
const range = () => scene.value?.time ?? { first: 1, last: 1, fps: 24 }
const { frame, playing, go, toggle } = usePlayback(range)

let port: Viewport | undefined
const view = () => port
const part = ref('')
const elements = useElements(
  scene,
  take.keep,
  () => (part.value = 'scene'),
  (index) => port?.placeOf(index) ?? null,
)
const { element, picked } = elements
/** Pick in the list or in the viewport; the scene's settings come along. */
function pickElement(index: number | null, more: boolean) {
  elements.pick(index, more)
  if (index !== null) part.value = 'scene'
}
const placing = usePlacing(id, view, {
  scene,
  quality,
  frame,
  element,
  picked,
  pick: pickElement,
  keep: take.keep,
  add: elements.put,
})
const shown = useShown(id, view, { scene, quality, frame, playing, stages, report })
const { mode, judge } = shown
const births = useBirths(id, { scene, quality, frame, mode }, shown.births)
const rehearsal = useRehearsal(
  id,
  scene,
  shown.by,
  () => ({ start: frame.value, quality: quality.value }),
  (packed, at) => {
    if (mode.value !== REHEARSE) return
    frame.value = at.frame
    port?.showPoints(packed)
    shown.picture(packed, at.frame)
  },
)
watch(mode, (now) => (rehearsal.on.value = now === REHEARSE))
const { deliveries, vessel: delivered, refresh: refreshDeliveries } = useDeliveries(id, quality, reports)
const { solid, toggle: toggleSolid } = useSolid(id, view, { element, quality, frame, scene })
const { caches, find: findCaches } = useCaches(id)
const running = useRun(
  id,
  quality,
  () => range().last,
  async (event) => {
    const was = report.value[mode.value]?.states[frame.value - range().first]
    await take.refreshReports()
    if (event.delivery && event.status !== 'running') await refreshDeliveries()
    if (was !== 'current' || event.type === 'run') await shown.renew()
  },
)
const { run, active, making } = running

const vessels = computed(() => [...vesselsOf(reports.value, titleOf), delivered.value])
const titleOf = (name: string) => stages.value.find((s) => s.name === name)?.title ?? name

const viewer = computed(() => take.take.value?.role === 'viewer')
const holder = ref<HTMLElement>()
const panes = ref<InstanceType<typeof ViewPanes>>()
const views = useViews(view, { scene, frame, picked, keep: take.keep, holder })
const backdrop = useBackdrop(id, view, take.take, frame)
const movie = ref(false)

const { over, dropped, importing, hovering, takeDropped } = useDropping(() => !viewer.value)

/** A sea is there or not; there is one at most. */
function beginSea() {
  void take.keep({ ...scene.value!, sea: { ...scene.value!.sea, made: true } })
  part.value = mode.value = stages.value.find((s) => s.kind === 'sea')?.name ?? part.value
}

/** See what is picked alone, or everything again. */
const alone = ref(false)
function isolate() {
  alone.value = !alone.value && picked.value.length > 0
  port?.isolate(alone.value ? picked.value : null)
}
/** Go to the place and the frame of what is said. */
function show(where: Schemas['Show']) {
  playing.value = false
  go(where.frame)
  const point = where.point as [number, number, number] | null
  if (!point) return
  port?.approach(point, true)
  port?.ring(point)
}
function putAside(said: Said) {
  const next = structuredClone(scene.value!)
  next.aside = [...(next.aside ?? []), `${said.rule}:${said.element}`]
  void take.keep(next)
}
const bringing = ref(false)
const deleting = ref<string | null>(null)
const help = ref(false)
const curves = ref(false)
const changing = ref<number | null>(null) // the first frame that a key being dragged would change
const asked = ref<Said[]>([])

watch(quality, async () => {
  await take.refresh()
  await shown.show()
})
watch(scene, (next) => {
  if (!next || !port) return
  if (mode.value === JUDGE) judge.follow(next, quality.value, frame.value)
  port.mark(next as never)
})
// where elements are and what they look like is known of what is kept
watch(take.take, async (kept) => {
  if (!kept || !port) return
  await port.setScene(id, kept.scene as never)
  port.select(picked.value)
  port.showTime(frame.value - range().first)
  placing.drawWay()
})
watch(picked, (now) => port?.select(now))
watch([part, element], ([name, index]) => {
  port?.showMarks(name === shown.judged.value)
  port?.showWalls(name === 'scene' && index === null && !viewer.value)
})

async function deleted(problems: Said[]) {
  asked.value = problems
  await take.refreshReports()
  await shown.renew()
}

async function useCamera(camera: SceneDocument) {
  await take.keep({ ...structuredClone(scene.value!), camera })
  port?.lookThrough()
}

function mend(remedy: Schemas['Remedy']) {
  void take.keep(withValue(scene.value!, remedy.path, remedy.value))
}

/** A stage, after those that it reads which are made of others themselves: they cost little beside it. */
function withWhatItReads(stage: Schemas['StageCard']): string[] {
  const read = stages.value.filter(
    (s) => stage.reads.includes(s.name) && (s.reads.length || s.kind === 'sea'),
  )
  return [...read.map((s) => s.name), stage.name]
}

function pick(next: string) {
  part.value = next
  element.value = null
  const stage = stages.value.find((s) => s.name === next)
  if (stage && !(stage.judged && mode.value === JUDGE)) mode.value = next
}

/** Begin to rehearse, or leave it for what was seen before. */
let seenBefore = ''
function rehearse() {
  if (mode.value === REHEARSE) mode.value = seenBefore || (concerned.value[0]?.name ?? '')
  else {
    seenBefore = mode.value === JUDGE ? '' : mode.value
    playing.value = false
    mode.value = REHEARSE
  }
}

async function keepAsDraft() {
  rehearse()
  quality.value = 'draft'
  await running.start([])
}

function startJudging() {
  mode.value = JUDGE
  part.value = shown.judged.value
  element.value = null
}

const shortcuts = computed<Shortcut[]>(() =>
  keyboard(stages.value, views, placing, elements, {
    frame,
    go,
    toggle,
    time: range,
    see: (name) => (mode.value = name),
    judge: startJudging,
    rehearse,
    hold: () =>
      mode.value === REHEARSE
        ? (rehearsal.held.value = !rehearsal.held.value)
        : (judge.options.held = !judge.options.held),
    curves: () => (curves.value = !curves.value),
    isolate,
    leave: () => ((element.value = null), port?.ring(null)),
    help: () => (help.value = !help.value),
  }),
)
useShortcuts(
  () => shortcuts.value,
  () => void take.undo(),
  () => void take.redo(),
  {
    c: () => elements.copy(id),
    g: elements.together,
    v: () => {
      asked.value = elements.paste(id)
        ? []
        : [plainly('What is held is a mesh of another take; bring its file in here.')]
    },
  },
)

onMounted(async () => {
  await Promise.all([stagesThere(), take.load()])
  if (!scene.value) return
  part.value = mode.value = concerned.value[0]?.name ?? ''
  frame.value = range().first
  await nextTick()
  port = new Viewport(panes.value!.canvas!)
  ;(window as unknown as { viewport: Viewport }).viewport = port
  placing.join(port)
  panes.value!.size()
  await port.setScene(id, scene.value as never)
  void findCaches(take.take.value?.production ?? '')
  void backdrop.show()
  await running.find()
  await shown.show()
})
onBeforeUnmount(() => {
  port?.dispose()
})
</script>

<template>
  <div
    class="workspace"
    @dragenter="hovering($event)"
    @dragover="hovering($event)"
    @dragleave.self="over = false"
    @drop="takeDropped"
  >
    <div v-if="over" class="over" aria-hidden="true" @dragleave="over = false">
      Drop meshes to import them
    </div>
    <TopBar>
      <template #where>
        <template v-if="take.take.value">
          <span class="dim">{{ take.take.value.production }} /</span> <b>{{ take.take.value.shot }}</b>
          <span class="dim"> / {{ take.take.value.name }}</span>
        </template>
      </template>
      <span v-if="take.other.value" class="dim" role="status">{{ take.other.value }} changed this take</span>
      <span v-if="viewer" class="dim">You look on: this production is shared with you for viewing</span>
      <RunState :run="run" :active="active" :readiness="readiness" :saving="take.state.value" />
      <v-btn v-if="active" @click="running.stop">Stop</v-btn>
      <select v-model="quality" aria-label="Quality" class="quality">
        <option>draft</option>
        <option>proof</option>
        <option>final</option>
      </select>
      <template v-if="!active">
        <v-btn
          v-for="(s, i) in [...wanted].reverse()"
          :key="s.name"
          :class="{ go: i === wanted.length - 1 }"
          @click="running.start(withWhatItReads(s))"
          >{{ s.verb }}{{ s.reads.length ? '' : ` ${quality}` }}</v-btn
        >
      </template>
    </TopBar>
    <div v-if="take.missing.value.length" class="empty">
      <SaidList :items="take.missing.value" bad />
      <router-link :to="`/takes/${id}/text`">Open it as text</router-link>
    </div>
    <div v-if="scene" class="body">
      <div class="left">
        <StageRail :vessels="vessels" :elements="scene.elements.length" :part="part" @pick="pick" />
        <ElementList
          :scene="scene"
          :picked="picked"
          :alone="alone"
          @pick="pickElement"
          @add="elements.addShape"
          @mesh="importing = true"
          @sea="beginSea"
          @rename="elements.rename"
          @flip="elements.flip"
          @together="elements.together"
          @isolate="isolate"
          @attach="elements.attach"
        />
      </div>
      <main ref="holder" class="viewport" aria-label="Viewport">
        <ViewPanes ref="panes" :views="views" @sized="(w, h) => port?.resize(w, h)" />
        <ViewportChips
          :stages="concerned"
          :mode="mode"
          :judges="concerned.some((s) => s.judged)"
          :rehearses="concerned.some((s) => s.kind === 'points')"
          @see="(name) => (mode = name)"
          @judge="startJudging"
          @rehearse="rehearse"
          @deliver="pick('delivery')"
          @help="help = true"
        >
          <button class="bare" @click="views.through()">Shot camera</button>
          <button class="bare" @click="views.whole()">Whole domain</button>
          <ViewMenu
            :views="views"
            :scene="scene"
            :edits="!viewer"
            @bring="bringing = true"
            @movie="movie = !movie"
            @keep="(s) => take.keep(s)"
          />
        </ViewportChips>
        <RehearsalBar
          v-if="mode === REHEARSE"
          v-model:held="rehearsal.held.value"
          :told="rehearsal.told.value"
          :rate="rehearsal.rate.value"
          :keeps="!viewer"
          @keep="keepAsDraft"
          @leave="rehearse"
        />
        <JudgeBar
          v-if="mode === JUDGE"
          v-model:options="judge.options"
          :take="id"
          :scene="scene"
          :quality="quality"
          :frame="frame"
          :packed="judge.packed.value"
          :busy="judge.busy.value"
          :behind="judge.behind.value"
          :problem="judge.problem.value"
        />
        <PlacingLayer v-if="!viewer" :placing="placing" :picked="element !== null" :last="scene.time.last" />
        <ReferenceMovie
          v-if="movie"
          :frame="frame"
          :first="scene.time.first"
          :fps="scene.time.fps"
          :playing="playing"
          @close="movie = false"
        />
        <CurveEditor
          v-if="curves"
          :scene="scene"
          :picked="picked"
          :frame="frame"
          @keep="(s) => take.keep(s)"
          @go="go"
          @close="((curves = false), (changing = null))"
          @changing="(n) => (changing = n)"
        />
        <p v-if="shown.absent.value" class="absent">{{ shown.absent.value }}</p>
        <p v-else-if="shown.older.value" class="absent late" role="status">{{ shown.older.value }}</p>
        <Legend
          v-if="shown.shown.value?.choices"
          :shown="shown.shown.value"
          :by="shown.by.value"
          @by="(by) => (shown.colouring.value = { ...shown.colouring.value, [mode]: by })"
          @range="(low, high) => port?.setRange(low, high)"
        >
          <KindList
            v-if="shown.shown.value.forms"
            :shown="shown.shown.value"
            :look="shown.kinds.value"
            :layers="(scene.whitewater?.layers ?? []).map((l: { name: string }) => l.name)"
            @look="(look) => (shown.kinds.value = look)"
          />
          <BirthRange
            v-if="(shown.shown.value.by ?? '') in EMPTY"
            :key="shown.shown.value.by"
            :shown="shown.shown.value"
            :by="shown.shown.value.by!"
            :scene="scene"
            :edits="!viewer"
            :seen="births.seen.value"
            :problem="births.problem.value"
            :lived="births.lived.value"
            @lived="(frames) => (births.lived.value = frames)"
            @see="births.see"
            @tried="births.tried"
            @keep="(s) => take.keep(s)"
            @range="(low, high) => port?.setRange(low, high)"
          />
        </Legend>
      </main>
      <SettingsPanel
        :take="id"
        :scene="scene"
        :part="part"
        :element="element"
        :frame="frame"
        :forecast="take.forecast.value"
        :stages="stages"
        :problems="[
          ...rehearsal.problems.value,
          ...placing.problems.value,
          ...take.refused.value,
          ...running.refused.value,
          ...asked,
          ...take.problems.value,
        ]"
        :remarks="take.remarks.value"
        :solid="solid"
        :caches="caches"
        @keep="(s) => take.keep(s)"
        @remove="elements.remove"
        @show="show"
        @aside="putAside"
        @solid="toggleSolid"
        @remedy="mend"
      >
        <template #delivery="{ delivery }">
          <DeliveryState
            :take="id"
            :quality="quality"
            :name="delivery"
            :report="deliveries.find((d) => d.name === delivery)"
            :busy="!!active"
            @deliver="running.deliver"
          />
        </template>
      </SettingsPanel>
      <FrameStrip
        class="bottom"
        :scene="scene"
        :stages="stages"
        :reports="reports"
        :frame="frame"
        :playing="playing"
        :making="making"
        :curves="curves"
        :changing="changing"
        :element="element"
        @changing="(n) => (changing = n)"
        @curves="curves = !curves"
        @keep="(s) => take.keep(s)"
        @go="go"
        @toggle="toggle"
        @delete="(s) => (deleting = s)"
      />
    </div>
    <BringCamera v-model="bringing" :take="id" @made="useCamera" />
    <ImportMesh
      v-model="importing"
      :take="id"
      :unit="take.take.value?.unit"
      :up="take.take.value?.up"
      :dropped="dropped"
      @made="elements.addMeshes"
    />
    <DeleteFrames
      :take="id"
      :quality="quality"
      :stage="deleting"
      :report="deleting ? report[deleting] : undefined"
      @leave="deleting = null"
      @deleted="deleted"
    />
    <KeyboardList v-model="help" :shortcuts="shortcuts" />
  </div>
</template>

<style scoped>
.workspace {
  height: 100vh;
  display: flex;
  flex-direction: column;
}
.over {
  position: absolute;
  inset: 12px;
  z-index: 20;
  display: flex;
  align-items: center;
  justify-content: center;
  border: 1.5px dashed var(--accent);
  border-radius: 3px;
  background: #151c20d0;
  color: #f3fbf9;
}
.body {
  flex: 1;
  min-height: 0;
  display: grid;
  grid-template: 1fr 178px / 236px 1fr 296px;
}
.left {
  display: flex;
  background: var(--pane);
  border-right: 1px solid var(--line);
  min-height: 0;
}
.viewport {
  position: relative;
  min-width: 0;
  min-height: 0;
  background: radial-gradient(ellipse at 50% 30%, #27333a 0, #171e22 62%, #11171a 100%);
  overflow: hidden;
}
.bottom {
  grid-column: 1 / 4;
}
.quality {
  background: var(--raise);
  border: 1px solid var(--line);
  border-radius: 3px;
  color: var(--text);
  padding: 4px 6px;
}
.absent {
  position: absolute;
  top: 54px;
  left: 82px;
  font-size: 12px;
  color: #93a4a9;
}
.late {
  color: var(--brass);
  animation: appear 0s 0.25s both; /* no word of what is there at once */
}
@keyframes appear {
  from {
    visibility: hidden;
  }
}
.empty {
  padding: 40px;
}
</style>
