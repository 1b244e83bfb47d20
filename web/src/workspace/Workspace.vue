<script setup lang="ts">
import { computed, nextTick, onBeforeUnmount, onMounted, ref, shallowRef, watch } from 'vue'
import { useRoute } from 'vue-router'

import { client, sentences, type Schemas } from '../api/client'
import TopBar from '../shell/TopBar.vue'
import { useEvents, type RunEvent } from '../shell/useEvents'
import { bytes, duration, label } from '../shell/words'
import { fetchPacked, type Packed } from '../viewport/packed'
import { Viewport } from '../viewport/viewport'
import DeliveryState from './DeliveryState.vue'
import ElementList from './ElementList.vue'
import FrameStrip from './FrameStrip.vue'
import BringCamera from './BringCamera.vue'
import ImportMesh from './ImportMesh.vue'
import JudgeBar from './JudgeBar.vue'
import Legend from './Legend.vue'
import SettingsPanel from './SettingsPanel.vue'
import StageRail from './StageRail.vue'
import { useFrameCache } from './useFrameCache'
import { useJudge } from './useJudge'
import { usePlayback } from './usePlayback'
import { useTake, type SceneDocument } from './useTake'

const id = Number(useRoute().params.id)
const take = useTake(id)
const { scene, quality, stages, stage } = take
const frames = useFrameCache(id)
const range = () => scene.value?.time ?? { first: 1, last: 1, fps: 24 }
const { frame, playing, go, toggle } = usePlayback(range)

const part = ref('liquid')
const element = ref<number | null>(null)
const mode = ref<'liquid' | 'surface' | 'judge'>('liquid')
/** What frames of each stage are coloured by; nothing is water. */
const colouring = ref<Record<string, string>>({ liquid: 'speed', surface: '', judge: '' })
const canvas = ref<HTMLCanvasElement>()
const holder = ref<HTMLElement>()
const shown = shallowRef<Packed | null>(null)
const absent = ref(false)
const run = shallowRef<RunEvent | null>(null)
const asking = ref<string[]>([])
const importing = ref(false)
const deleting = ref<string | null>(null)
const help = ref(false)
let port: Viewport | undefined
const judge = useJudge(id, () => port?.middle() ?? [0, 0, 0])

const making = computed(() =>
  run.value?.status === 'running' && run.value.quality === quality.value && run.value.stage
    ? { stage: run.value.stage, frame: Math.min((run.value.frame ?? 0) + 1, range().last) }
    : null,
)
const active = computed(() => run.value && ['waiting', 'running'].includes(run.value.status))

let turn = 0 // what was asked for last is shown, in whatever order answers come
async function show() {
  const mine = frame.value
  const asked = ++turn
  port?.showTime(mine - range().first)
  if (mode.value === 'judge') {
    judge.options.by = colouring.value.judge
    judge.ask(scene.value!, quality.value, mine)
    absent.value = false
    return
  }
  const report = stage.value[mode.value]
  const state = report?.states[mine - (report?.first ?? 1)]
  const packed =
    state === 'current' || state === 'stale'
      ? await frames.at(quality.value, mode.value, mine, colouring.value[mode.value])
      : null
  if (asked !== turn && !playing.value) return
  absent.value = !packed
  if (!packed) {
    if (!playing.value) {
      port?.clearLiquid()
      port?.render()
      shown.value = null
    }
    return
  }
  shown.value = packed
  if (packed.kind === 'points') port?.showPoints(packed)
  else port?.showMesh(packed)
  frames.prefetch(
    quality.value,
    mode.value,
    mine,
    colouring.value[mode.value],
    (n) => report?.states[n - report.first] === 'current',
  )
}

/** What is judged: the mesh, and the particles beside it if wanted. */
async function showJudged() {
  const packed = judge.packed.value
  if (mode.value !== 'judge' || !packed) return
  shown.value = packed
  port?.showMesh(packed, judge.options.wire)
  if (!judge.options.beside) return
  const points = await frames.at(quality.value, 'liquid', frame.value, 'speed')
  if (points && mode.value === 'judge' && shown.value === packed) port?.showPoints(points, true)
}
watch([judge.packed, () => judge.options.wire, () => judge.options.beside], showJudged)

watch(frame, show)
watch([mode, colouring], (_, [before]) => {
  if (before === 'judge' && mode.value !== 'judge') judge.end()
  void show()
})
watch(quality, async () => {
  await take.refresh()
  await show()
})
watch(scene, (next) => {
  if (!next || !port) return
  if (mode.value === 'judge') judge.follow(next, quality.value, frame.value)
  port.mark(next as never)
})
// where elements are and what they look like is known of what is kept
watch(take.take, async (kept) => {
  if (!kept || !port) return
  await port.setScene(id, kept.scene as never)
  port.select(element.value)
  port.showTime(frame.value - range().first)
})
watch(element, (i) => port?.select(i))
watch(part, (name) => port?.showMarks(name === 'surface'))

let soon: ReturnType<typeof setTimeout> | undefined
useEvents((event) => {
  if (event.take !== id) return
  run.value = event
  if (event.quality !== quality.value) return
  soon ??= setTimeout(
    async () => {
      soon = undefined
      const was = stage.value[mode.value]?.states[frame.value - range().first]
      await take.refreshStages()
      if (event.delivery && event.status !== 'running') await refreshDeliveries()
      if (was !== 'current' || event.type === 'run') {
        frames.forget()
        await show()
      }
    },
    event.type === 'run' ? 50 : 400,
  )
})

async function start(list: string[]) {
  const { data, error } = await client.POST('/api/takes/{take_id}/runs', {
    params: { path: { take_id: id } },
    body: { quality: quality.value, stages: list },
  })
  asking.value = data ? [] : sentences(error)
  // a short run may have been heard of, and even have ended, before its start is answered
  if (data && run.value?.run !== data.run) run.value = { ...data, type: 'run' } as RunEvent
}

async function stop() {
  if (run.value) await client.POST('/api/runs/{run_id}/stop', { params: { path: { run_id: run.value.run } } })
}

async function deleteStage() {
  const { error } = await client.DELETE('/api/takes/{take_id}/stages/{quality}/{stage}', {
    params: { path: { take_id: id, quality: quality.value, stage: deleting.value! } },
  })
  deleting.value = null
  asking.value = error ? sentences(error) : []
  frames.forget()
  await take.refreshStages()
  await show()
}

const deliveries = shallowRef<Schemas['DeliveryReport'][]>([])
async function refreshDeliveries() {
  const { data } = await client.GET('/api/takes/{take_id}/deliveries/{quality}', {
    params: { path: { take_id: id, quality: quality.value } },
  })
  if (data) deliveries.value = data
}
watch([stages, quality], refreshDeliveries)

async function deliver(name: string) {
  const { data, error } = await client.POST('/api/takes/{take_id}/deliver/{quality}', {
    params: { path: { take_id: id, quality: quality.value }, query: { name } },
  })
  asking.value = data ? [] : sentences(error)
  if (data && run.value?.run !== data.run) run.value = { ...data, type: 'run' } as RunEvent
}

/** Caches of the production's other takes, which can be joined to the surface. */
const caches = shallowRef<{ folder: string; name: string }[]>([])
async function findCaches() {
  const { data } = await client.GET('/api/productions')
  caches.value = (data ?? [])
    .filter((p) => p.name === take.take.value?.production)
    .flatMap((p) => p.shots)
    .flatMap((shot) => shot.takes.map((t) => ({ id: t.id, name: `${shot.name}, ${t.name}` })))
    .filter((t) => t.id !== id)
    .flatMap((t) =>
      ['draft', 'proof', 'final'].map((q) => ({ folder: `../take-${t.id}/${q}`, name: `${t.name}, ${q}` })),
    )
}

const bringing = ref(false)
async function useCamera(camera: SceneDocument) {
  await take.keep({ ...structuredClone(scene.value!), camera })
  port?.lookThrough()
}

function freeName(base: string): string {
  const names = new Set(scene.value!.elements.map((e: { name: string }) => e.name))
  for (let n = 1; ; n++) {
    const name = n === 1 ? base : `${base} ${n}`
    if (!names.has(name)) return name
  }
}

async function add(
  kind: string,
  name: string,
  what: SceneDocument,
  translation: number[],
  more: SceneDocument = {},
) {
  const own = kind === 'force' ? { effect: what } : { shape: what }
  const made: SceneDocument = { kind, name: freeName(name), ...own, ...more, pose: { translation } }
  const next = structuredClone(scene.value!)
  next.elements.push(made)
  await take.keep(next)
  element.value = scene.value!.elements.length - 1
  part.value = 'scene'
}

function middle(): number[] {
  const { low, size } = scene.value!.domain
  return low.map((l: number, i: number) => +(l + size[i] / 2).toFixed(4))
}

function addShape(kind: string, shape: string) {
  const at =
    shape === 'plane' || shape === 'tub' ? [middle()[0], scene.value!.domain.low[1], middle()[2]] : middle()
  const own = kind === 'collider' || kind === 'force'
  const name = own ? label(shape) : label(kind)
  void add(kind, name, { kind: shape }, at)
}

function addMesh(kind: string, name: string, facts: Schemas['MeshReply'], side?: string) {
  const shape = { kind: 'mesh', file: facts.file, unit: facts.unit, up: facts.up, animated: facts.animated }
  void add(kind, name, shape, [0, 0, 0], side ? { side } : {})
}

/** What the solver's solid is, while it is shown. */
const solid = ref<string | null>(null)
async function toggleSolid() {
  if (solid.value) return hideSolid()
  solid.value = 'Looking…'
  const url = `/api/takes/${id}/elements/${element.value}/solid/${quality.value}/${frame.value}`
  const packed = await fetchPacked(url)
  if (!solid.value) return
  if (!packed) {
    solid.value = 'It has no surface in the domain at this frame, or too many voxels to be shown.'
    return
  }
  const mm = (v?: number) => +(v ?? 0).toPrecision(2)
  solid.value = `Voxel ${mm(packed.voxel)} mm: off by ${mm(packed.largest)} mm at most, ${mm(packed.mean)} mm in the mean.`
  port?.showSolid(packed, element.value)
}
function hideSolid() {
  solid.value = null
  port?.showSolid(null)
}
watch([element, quality, frame, scene], hideSolid)

function remove() {
  const next = structuredClone(scene.value!)
  next.elements.splice(element.value!, 1)
  element.value = null
  void take.keep(next)
}

function pick(next: string) {
  part.value = next
  element.value = null
  if (next === 'liquid' || (next === 'surface' && mode.value !== 'judge')) mode.value = next
}

function startJudging() {
  mode.value = 'judge'
  part.value = 'surface'
  element.value = null
}

const SHORTCUTS: [string, string, () => void][] = [
  ['Space', 'play or hold', toggle],
  [',', 'a frame back', () => go(frame.value - 1)],
  ['.', 'a frame on', () => go(frame.value + 1)],
  ['Home', 'first frame', () => go(range().first)],
  ['End', 'last frame', () => go(range().last)],
  ['p', 'see particles', () => (mode.value = 'liquid')],
  ['s', 'see the surface', () => (mode.value = 'surface')],
  ['j', 'judge this frame while settings change', () => startJudging()],
  ['h', 'hold the judged frame, or go on', () => (judge.options.held = !judge.options.held)],
  ['w', 'see the whole domain', () => port?.fit()],
  ['c', 'look through the shot camera', () => port?.lookThrough()],
  ['?', 'this list', () => (help.value = !help.value)],
]

function onKey(event: KeyboardEvent) {
  const target = event.target as HTMLElement
  if (
    target.closest('input, select, textarea, [role=listbox]') ||
    document.querySelector('.v-overlay--active .panel')
  )
    return
  if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === 'z') {
    event.preventDefault()
    void (event.shiftKey ? take.redo() : take.undo())
    return
  }
  if (event.ctrlKey || event.metaKey || event.altKey) return
  const key = event.key === ' ' ? 'Space' : event.key
  if (key === 'Space' && target.closest('button, a')) return
  const found = SHORTCUTS.find(([k]) => k === key)
  if (found) {
    event.preventDefault()
    found[2]()
  }
}

let watcher: ResizeObserver | undefined
onMounted(async () => {
  addEventListener('keydown', onKey)
  await take.load()
  if (!scene.value) return
  frame.value = range().first
  await nextTick()
  port = new Viewport(canvas.value!)
  ;(window as unknown as { viewport: Viewport }).viewport = port
  watcher = new ResizeObserver(() => port?.resize(holder.value!.clientWidth, holder.value!.clientHeight))
  watcher.observe(holder.value!)
  await port.setScene(id, scene.value as never)
  void findCaches()
  const { data } = await client.GET('/api/runs')
  const latest = data?.find((r) => r.take === id)
  if (latest) run.value = { ...latest, type: 'run' } as RunEvent
  await show()
})
onBeforeUnmount(() => {
  removeEventListener('keydown', onKey)
  watcher?.disconnect()
  port?.dispose()
})
</script>

<template>
  <div class="workspace">
    <TopBar>
      <template #where>
        <template v-if="take.take.value">
          <span class="dim">{{ take.take.value.production }} /</span> <b>{{ take.take.value.shot }}</b>
          <span class="dim"> / {{ take.take.value.name }}</span>
        </template>
      </template>
      <div v-if="active && run" class="run" role="status">
        <span>{{ run.delivery || (run.stage ? label(run.stage) : 'Waiting') }}</span>
        <div class="bar"><i :style="{ width: `${run.total ? (100 * run.done) / run.total : 0}%` }" /></div>
        <span class="n">{{ run.done }} / {{ run.total }}</span>
        <span v-if="run.seconds_left" class="dim">{{ duration(run.seconds_left) }} left</span>
      </div>
      <span v-else-if="run?.status === 'failed'" class="failed">{{ run.message }}</span>
      <v-btn v-if="active" @click="stop">Stop</v-btn>
      <select v-model="quality" aria-label="Quality" class="quality">
        <option>draft</option>
        <option>proof</option>
        <option>final</option>
      </select>
      <v-btn v-if="!active" @click="start(['surface'])">Mesh</v-btn>
      <v-btn v-if="!active" class="go" @click="start(['liquid'])">Run {{ quality }}</v-btn>
    </TopBar>
    <p v-if="take.missing.value" class="empty">{{ take.missing.value }}</p>
    <div v-if="scene" class="body">
      <div class="left">
        <StageRail
          :stages="stages"
          :deliveries="deliveries"
          :elements="scene.elements.length"
          :part="part"
          @pick="pick"
        />
        <ElementList
          :scene="scene"
          :element="element"
          @pick="(i) => ((element = i), (part = i === null ? part : 'scene'))"
          @add="addShape"
          @mesh="importing = true"
        />
      </div>
      <main ref="holder" class="viewport" aria-label="Viewport">
        <canvas ref="canvas" />
        <div class="chip left-chip" role="group" aria-label="What is shown">
          <button class="bare" :class="{ on: mode === 'liquid' }" @click="mode = 'liquid'">Particles</button>
          <button class="bare" :class="{ on: mode === 'surface' }" @click="mode = 'surface'">Surface</button>
          <button class="bare" :class="{ on: mode === 'judge' }" @click="startJudging">Judge</button>
        </div>
        <div class="chip right-chip" role="group" aria-label="View">
          <button class="bare" @click="port?.lookThrough()">Shot camera</button>
          <button class="bare" @click="port?.fit()">Whole domain</button>
          <button class="bare" title="From a USD or Alembic file" @click="bringing = true">
            Bring a camera
          </button>
          <button class="bare" @click="pick('delivery')">Deliver</button>
          <button class="bare" aria-label="Keyboard" @click="help = true">?</button>
        </div>
        <JudgeBar
          v-if="mode === 'judge'"
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
        <p v-if="absent" class="absent">
          {{ mode === 'liquid' ? 'This frame has no liquid yet.' : 'This frame is not meshed yet.' }}
        </p>
        <Legend
          v-if="shown && shown.choices"
          :shown="shown"
          :by="colouring[mode]"
          @by="(by) => (colouring = { ...colouring, [mode]: by })"
          @range="(low, high) => port?.setRange(low, high)"
        />
      </main>
      <SettingsPanel
        :take="id"
        :scene="scene"
        :part="part"
        :element="element"
        :frame="frame"
        :forecast="take.forecast.value"
        :problems="[...asking, ...take.problems.value]"
        :remarks="take.remarks.value"
        :refused="take.refused.value"
        :solid="solid"
        :caches="caches"
        @keep="(s) => take.keep(s)"
        @remove="remove"
        @solid="toggleSolid"
      >
        <template #delivery="{ delivery }">
          <DeliveryState
            :take="id"
            :quality="quality"
            :name="delivery"
            :report="deliveries.find((d) => d.name === delivery)"
            :busy="!!active"
            @deliver="deliver"
          />
        </template>
      </SettingsPanel>
      <FrameStrip
        class="bottom"
        :scene="scene"
        :stages="stages"
        :frame="frame"
        :playing="playing"
        :making="making"
        @go="go"
        @toggle="toggle"
        @delete="(s) => (deleting = s)"
      />
    </div>
    <BringCamera v-model="bringing" :take="id" @made="useCamera" />
    <ImportMesh v-model="importing" :take="id" @made="addMesh" />
    <v-dialog :model-value="!!deleting" @update:model-value="deleting = null">
      <div class="panel">
        <h2>Delete the {{ deleting }} frames?</h2>
        <p v-if="deleting && stage[deleting]">
          {{ bytes(stage[deleting].bytes) }} of {{ quality }} frames,
          {{ duration(stage[deleting].seconds) }} of work. This cannot be undone; a run makes them again.
        </p>
        <div class="ends">
          <v-btn @click="deleting = null">Keep them</v-btn>
          <v-btn color="error" @click="deleteStage">Delete</v-btn>
        </div>
      </div>
    </v-dialog>
    <v-dialog v-model="help">
      <div class="panel">
        <h2>Keyboard</h2>
        <dl>
          <template v-for="s in SHORTCUTS" :key="s[0]">
            <dt class="n">{{ s[0] }}</dt>
            <dd>{{ s[1] }}</dd>
          </template>
          <dt class="n">Ctrl Z</dt>
          <dd>undo a change of the scene; with Shift, redo</dd>
        </dl>
        <p class="dim">Drag turns the view, with the right button it moves it, the wheel comes nearer.</p>
      </div>
    </v-dialog>
  </div>
</template>

<style scoped>
.workspace {
  height: 100vh;
  display: flex;
  flex-direction: column;
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
canvas {
  position: absolute;
  width: 100%;
  height: 100%;
}
.bottom {
  grid-column: 1 / 4;
}
.run {
  display: flex;
  align-items: center;
  gap: 10px;
  border: 1px solid var(--line);
  border-radius: 3px;
  padding: 4px 10px;
  background: var(--raise);
  white-space: nowrap;
}
.bar {
  width: 100px;
  height: 5px;
  background: var(--deep);
}
.bar i {
  display: block;
  height: 100%;
  background: var(--accent);
}
.failed {
  color: var(--coral);
  max-width: 340px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.quality {
  background: var(--raise);
  border: 1px solid var(--line);
  border-radius: 3px;
  color: var(--text);
  padding: 4px 6px;
}
.chip {
  position: absolute;
  top: 12px;
  display: flex;
  gap: 1px;
  border: 1px solid var(--line);
  border-radius: 3px;
  overflow: hidden;
}
.left-chip {
  left: 12px;
}
.right-chip {
  right: 12px;
}
.chip button {
  background: #1a2226e6;
  color: #93a4a9;
  padding: 4px 10px;
  font-size: 12px;
}
.chip button.on,
.chip button:hover:not(:disabled) {
  background: #2a363ce6;
  color: #d9e1e1;
}
.absent {
  position: absolute;
  top: 50px;
  left: 12px;
  font-size: 12px;
  color: #93a4a9;
}
.empty {
  padding: 40px;
}
dl {
  display: grid;
  grid-template-columns: 70px 1fr;
  gap: 4px 10px;
  margin-bottom: 10px;
}
</style>
