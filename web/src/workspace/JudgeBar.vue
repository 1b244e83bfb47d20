<script setup lang="ts">
import { computed, ref } from 'vue'

import { client, problemsOf } from '../api/client'
import type { Packed } from '../viewport/packed'
import NumberField from './NumberField.vue'
import type { SceneDocument } from './useTake'

/** What is judged on one frame, and the numbers beside the picture. */
const props = defineProps<{
  take: number
  scene: SceneDocument
  quality: string
  frame: number
  packed: Packed | null
  busy: boolean
  behind: boolean
  problem: string
}>()
const options = defineModel<{
  held: boolean
  region: boolean
  reach: number
  coarser: number
  wire: boolean
  beside: boolean
  missed: boolean
}>('options', { required: true })

/** Beyond two dozen voxels liquid does not count as a sheet. */
function sheet(f: Record<string, number>): string {
  const mm = +(1000 * f.smallest_sheet).toPrecision(2)
  return f.smallest_sheet > 23.9 * (f.voxel_mm / 1000) ? `over ${mm} mm` : `${mm} mm`
}

/** Particles that the mesh does not show, and how much liquid they are. */
function leftOut(count: number, volume: number): string {
  if (!count) return 'nothing'
  const litres = 1000 * volume
  const much = litres < 1 ? `${+(1000 * litres).toPrecision(2)} ml` : `${+litres.toPrecision(2)} l`
  return `${count.toLocaleString('en')}, ${much}`
}

const facts = computed(() => {
  const f = props.packed?.facts
  if (!f) return []
  const rows: [string, string, boolean][] = [
    ['triangles', Math.round(f.triangles ?? 0).toLocaleString('en'), false],
    ['time', `${f.seconds.toFixed(2)} s`, false],
    ['voxel', `${+f.voxel_mm.toPrecision(3)} mm`, false],
  ]
  if (f.volume_error !== undefined) {
    const off = 100 * f.volume_error
    rows.push(['volume', `${off < 0 ? '−' : '+'}${Math.abs(off).toFixed(2)} %`, Math.abs(off) > 3])
  }
  if (f.layers) rows.push(['in films', `${f.layers.toLocaleString('en')} particles`, false])
  if (f.spray) rows.push(['as spray', `${f.spray.toLocaleString('en')} particles`, false])
  if (f.left_out !== undefined)
    rows.push(['left out', leftOut(f.left_out, f.left_out_volume), 100 * f.left_out_volume > f.mesh_volume])
  if (f.open_edges !== undefined) rows.push(['open edges', String(f.open_edges), f.open_edges > 0])
  if (f.smallest_sheet !== undefined) rows.push(['smallest sheet', sheet(f), false])
  if (f.needed_radius !== undefined)
    rows.push(['balls hold from', `${f.needed_radius.toFixed(2)} spacings`, false])
  return rows
})

const frozen = ref('')
async function freeze() {
  frozen.value = 'Freezing…'
  const { data, error } = await client.POST('/api/takes/{take_id}/freeze/{quality}', {
    params: { path: { take_id: props.take, quality: props.quality } },
    body: { scene: props.scene, frame: props.frame, name: 'frozen' },
  })
  frozen.value = data ? data.file : problemsOf(error)[0].says
}
const address = computed(() =>
  frozen.value.startsWith('frozen/')
    ? `/api/takes/${props.take}/frozen/${encodeURIComponent(frozen.value.slice(7))}`
    : '',
)
</script>

<template>
  <div class="judge" role="group" aria-label="Judge this frame">
    <div class="line">
      <button class="bare toggle" :class="{ on: options.held }" @click="options.held = !options.held">
        {{ options.held ? 'Held' : 'Hold' }}
      </button>
      <button class="bare toggle" :class="{ on: options.region }" @click="options.region = !options.region">
        Region
      </button>
      <button class="bare toggle" :class="{ on: options.wire }" @click="options.wire = !options.wire">
        Wire
      </button>
      <button class="bare toggle" :class="{ on: options.beside }" @click="options.beside = !options.beside">
        Particles too
      </button>
      <button class="bare toggle" :class="{ on: options.missed }" @click="options.missed = !options.missed">
        Left out
      </button>
    </div>
    <label v-if="options.region" class="field">
      <span>Reach about the view's middle</span>
      <NumberField
        :value="options.reach"
        unit="m"
        label="Reach of the region"
        @keep="(v) => (options.reach = Math.max(v ?? 0.1, 0.001))"
      />
    </label>
    <label class="field">
      <span>Times coarser</span>
      <NumberField
        :value="options.coarser"
        unit="x"
        label="Times coarser"
        @keep="(v) => (options.coarser = Math.min(Math.max(v ?? 1, 1), 16))"
      />
    </label>
    <dl class="n" data-testid="judge-facts">
      <template v-for="[name, value, bad] in facts" :key="name">
        <dt>{{ name }}</dt>
        <dd :class="{ bad }">{{ value }}<span v-if="bad" aria-label="look at this"> !</span></dd>
      </template>
    </dl>
    <p class="state" role="status">
      <template v-if="problem">{{ problem }}</template>
      <template v-else-if="busy">Meshing…</template>
      <template v-else-if="behind && options.held">Held; settings have changed since.</template>
      <template v-else>As set.</template>
    </p>
    <p class="state">
      <button class="bare apply" @click="freeze">Freeze this frame</button>
      <a v-if="address" :href="address">{{ frozen.slice(7) }}</a>
      <span v-else-if="frozen">{{ frozen }}</span>
    </p>
  </div>
</template>

<style scoped>
.judge {
  position: absolute;
  right: 12px;
  bottom: 12px;
  width: 246px;
  background: color-mix(in srgb, var(--pane) 90%, transparent);
  border: 1px solid var(--line);
  border-radius: 3px;
  padding: 8px 10px;
  font-size: 12px;
}
.line {
  display: flex;
  flex-wrap: wrap;
  gap: 4px;
  margin-bottom: 6px;
}
.toggle {
  border: 1px solid var(--line);
  border-radius: 2px;
  padding: 1px 7px;
  color: var(--dim);
}
.toggle.on {
  color: var(--text);
  border-color: var(--accent);
}
.field {
  display: grid;
  grid-template-columns: 1fr 84px;
  gap: 6px;
  align-items: center;
  min-height: 24px;
}
dl {
  display: grid;
  grid-template-columns: 1fr auto;
  gap: 1px 8px;
  margin: 6px 0;
}
dt {
  color: var(--dim);
  white-space: nowrap;
}
dd {
  margin: 0;
  text-align: right;
  white-space: nowrap;
}
dd.bad {
  color: var(--brass);
}
.state {
  margin: 2px 0;
  color: var(--dim);
  display: flex;
  gap: 8px;
  overflow-wrap: anywhere;
}
.apply {
  color: var(--accent);
  text-decoration: underline;
}
a {
  color: var(--accent);
}
</style>
