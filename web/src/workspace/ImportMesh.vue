<script setup lang="ts">
import endings from '../api/endings.json'
import { computed, ref, watch } from 'vue'

import { client, problemsOf, type Said, type Schemas } from '../api/client'
import { useBringing } from '../api/useBringing'
import SaidList from '../shell/SaidList.vue'
import { meshFiles } from './dropped'
import UnitAxis from './UnitAxis.vue'
import type { Piece } from './useElements'

/** Bring meshes in: read them, say what they are, choose unit and axis, and decide what each becomes. */
const props = defineProps<{ take: number; unit?: string; up?: string; dropped: File[] }>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ made: [pieces: Piece[]] }>()

type Row = Piece & { triangles: number }
const rows = ref<Row[]>([])
const unit = ref(props.unit ?? 'm')
const up = ref(props.up ?? 'y')
watch(
  () => [props.unit, props.up],
  ([own, axis]) => {
    unit.value = own ?? 'm'
    up.value = axis ?? 'y'
  },
)
watch(
  () => props.dropped,
  (files) => files.length && void readAll(files),
)
const problems = ref<Said[]>([])
const { told, bring } = useBringing(props.take)
const ROLES: [Piece['role'], string][] = [
  ['outside', 'is solid'],
  ['inside', 'is the room in a vessel'],
  ['shell', 'is a shell'],
  ['ground', 'is the ground'],
  ['fill', 'is liquid'],
  ['none', 'does not act'],
]

function choose(event: Event) {
  const files = [...((event.target as HTMLInputElement).files ?? [])]
  if (files.length) void readAll(files)
}

// nothing is put in while files are still read: those would be left behind
const reading = ref(false)
let turn = 0

/** Read files that belong together as one mesh each; what cannot be read is said, the others stay. */
async function readAll(files: File[]) {
  const own = ++turn
  reading.value = true
  problems.value = []
  rows.value = []
  const { meshes, others } = meshFiles(files)
  if (others.length)
    problems.value = problemsOf({
      problems: [
        { says: `${others.join(', ')}: no mesh file`, where: '', element: '', leads_to: '', rule: '' },
      ],
    })
  for (const { name, files: together } of meshes) {
    try {
      const facts = await read(together)
      if (own !== turn) return // others have been chosen meanwhile
      rows.value = [...rows.value, ...rowsOf(name, facts)]
    } catch (error) {
      if (own !== turn) return
      problems.value = [...problems.value, ...problemsOf(error)]
    }
  }
  reading.value = false
}
async function read(files: File[]): Promise<Schemas['MeshReply']> {
  const got = await bring(files, (upload) =>
    client.POST('/api/takes/{take_id}/meshes', {
      params: { path: { take_id: props.take }, query: { upload, unit: unit.value, up: up.value } },
    }),
  )
  const { told_unit, told_up } = got
  if ((told_unit && told_unit !== got.unit) || (told_up && told_up !== got.up))
    return factsOf(got.file, told_unit ?? got.unit, told_up ?? got.up)
  return got
}
async function factsOf(file: string, unit: string, up: string): Promise<Schemas['MeshReply']> {
  const { data, error } = await client.GET('/api/takes/{take_id}/meshes/facts', {
    params: { path: { take_id: props.take }, query: { file, unit, up } },
  })
  if (!data) throw error
  return data
}
function rowsOf(name: string, facts: Schemas['MeshReply']): Row[] {
  const role = facts.open_edges ? 'shell' : 'outside'
  const plain = { facts, shown: true, delivered: true, role } as const
  if (!facts.parts.length) return [{ ...plain, name, part: '', triangles: facts.triangles }]
  return facts.parts.map(({ name: part, polygons }) => ({
    ...plain,
    role: 'outside' as const,
    name: part.split('/').at(-1) || name,
    part,
    triangles: polygons,
  }))
}

const one = computed(() => (rows.value.length === 1 ? rows.value[0] : null))
const facts = computed(() => one.value?.facts ?? null)
const proposed = computed(() => rows.value.find((r) => r.facts.proposed_unit)?.facts.proposed_unit ?? null)
watch(
  facts,
  (now) => {
    if (now) [unit.value, up.value] = [now.unit, now.up]
  },
  { flush: 'sync' },
)

/** Look at all of them again in another unit or axis. */
async function again() {
  const known = new Map<string, Schemas['MeshReply']>()
  try {
    for (const row of rows.value) {
      const file = row.facts.file
      if (!known.has(file)) known.set(file, await factsOf(file, unit.value, up.value))
    }
    rows.value = rows.value.map((row) => ({ ...row, facts: known.get(row.facts.file)! }))
  } catch (error) {
    problems.value = problemsOf(error)
  }
}
function useProposed() {
  unit.value = proposed.value!
  void again()
}

function put(role?: Piece['role']) {
  emit(
    'made',
    rows.value.map((row) => ({ ...row, name: row.name || 'Mesh', role: role ?? row.role })),
  )
  open.value = false
  rows.value = []
}
/** The one mesh as a part of its file again. */
function asOne() {
  const { facts } = rows.value[0]
  rows.value = rowsOf('Mesh', { ...facts, parts: [] })
}
const parted = computed(
  () => rows.value.length > 1 && rows.value.every((r) => r.facts.file === rows.value[0].facts.file),
)
const METRES: Record<string, number> = { m: 1, cm: 0.01, mm: 0.001, in: 0.0254, ft: 0.3048 }
/** What would follow from each unit: how long the mesh is, and how long a fall through its height takes. */
const units = computed(() => {
  const f = facts.value
  if (!f) return []
  return Object.entries(METRES).map(([name, size]) => {
    const scale = size / METRES[f.unit]
    const fall = Math.sqrt((2 * f.size[1] * scale) / 9.80665)
    return { name, long: Math.max(...f.size) * scale, fall }
  })
})
const metres = (v: number) => `${+v.toPrecision(4)}`
</script>

<template>
  <v-dialog v-model="open" :max-width="rows.length > 1 ? 760 : undefined">
    <div class="panel">
      <h2>Import {{ rows.length > 1 ? 'meshes' : 'a mesh' }}</h2>
      <p class="dim">
        OBJ, PLY, STL, glTF, USD or Alembic files, or the numbered files of a mesh that deforms: one for each
        frame, with the same points. Animation in a USD or Alembic file is followed. They are kept beside the
        scene as they are.
      </p>
      <input type="file" multiple :accept="endings.meshes.join()" aria-label="Mesh file" @change="choose" />
      <UnitAxis v-model:unit="unit" v-model:up="up" @change="again" />
      <p v-if="told" class="dim" role="status">{{ told }}</p>
      <SaidList :items="problems" bad />
      <template v-if="facts && one">
        <dl class="n" data-testid="mesh-facts">
          <dt>size</dt>
          <dd>{{ facts.size.map(metres).join(' × ') }} m</dd>
          <template v-if="facts.frames > 1">
            <dt>{{ facts.animated ? 'moments' : 'files' }}</dt>
            <dd>{{ facts.frames }}</dd>
          </template>
          <dt>triangles</dt>
          <dd>{{ facts.triangles.toLocaleString('en') }}</dd>
          <dt>open edges</dt>
          <dd>{{ facts.open_edges }}</dd>
        </dl>
        <p v-if="facts.open_edges" class="sentence bad">
          {{ facts.open_edges }} open edges: an open mesh can be a shell or the ground. To fill it or to keep
          liquid out of it, close it in the modelling program and import it again.
        </p>
        <table class="units" aria-label="What each would mean">
          <tbody>
            <tr v-for="u in units" :key="u.name" :class="{ now: u.name === facts.unit }">
              <th scope="row">{{ u.name }}</th>
              <td class="n">{{ +u.long.toPrecision(3) }} m long</td>
              <td class="n">{{ u.fall.toFixed(2) }} s to fall its height</td>
            </tr>
          </tbody>
        </table>
        <p v-if="facts.told_up" class="dim">Unit and axis are as the file says.</p>
      </template>
      <p v-if="proposed" class="sentence">
        That is out of proportion to the domain. Is its unit {{ proposed }}?
        <button class="bare apply" @click="useProposed">Use {{ proposed }}</button>
      </p>
      <v-text-field v-if="one" v-model="one.name" label="Name" class="mt-3" />
      <table v-else-if="rows.length" aria-label="Meshes">
        <thead>
          <tr>
            <th>Name</th>
            <th class="n">Polygons</th>
            <th>It</th>
            <th>Shown</th>
            <th>Delivered</th>
            <th></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(row, i) in rows" :key="i">
            <td><input v-model="row.name" class="name" :aria-label="`Name of mesh ${i + 1}`" /></td>
            <td class="n">{{ row.triangles.toLocaleString('en') }}</td>
            <td>
              <select v-model="row.role" :aria-label="`What ${row.name} is`">
                <option v-for="[value, words] in ROLES" :key="value" :value="value">{{ words }}</option>
              </select>
            </td>
            <td><input v-model="row.shown" type="checkbox" :aria-label="`${row.name} is shown`" /></td>
            <td>
              <input v-model="row.delivered" type="checkbox" :aria-label="`${row.name} is delivered`" />
            </td>
            <td>
              <button class="bare dim" :aria-label="`Leave ${row.name} out`" @click="rows.splice(i, 1)">
                ✕
              </button>
            </td>
          </tr>
        </tbody>
      </table>
      <p v-if="parted" class="dim">
        These are the parts of one file.
        <button class="bare apply" @click="asOne">Take it as one mesh</button>
      </p>
      <div class="ends">
        <v-btn @click="open = false">Close</v-btn>
        <v-btn v-if="rows.length > 1" class="go" :disabled="reading" @click="put()">Put them in</v-btn>
        <template v-else-if="facts?.open_edges">
          <v-btn :disabled="reading" @click="put('ground')">Make it the ground</v-btn>
          <v-btn class="go" :disabled="reading" @click="put('shell')">Make it a shell</v-btn>
        </template>
        <template v-else>
          <v-btn :disabled="!facts || reading" @click="put('fill')">Fill it</v-btn>
          <v-btn class="go" :disabled="!facts || reading" @click="put('outside')">Make it a collider</v-btn>
        </template>
      </div>
    </div>
  </v-dialog>
</template>

<style scoped>
.apply {
  color: var(--accent);
  text-decoration: underline;
}
table {
  width: 100%;
  margin: 10px 0 4px;
  border-collapse: collapse;
  font-size: 12.5px;
}
th {
  text-align: left;
  font-weight: 600;
  font-size: 11px;
  color: var(--dim);
}
td,
th {
  padding: 2px 8px 2px 0;
}
td.n,
th.n {
  text-align: right;
}
.units {
  width: auto;
  color: var(--dim);
}
.units .now {
  color: var(--text);
}
.units th {
  padding-right: 14px;
}
.name,
select {
  background: var(--deep);
  border: 1px solid var(--line);
  color: var(--text);
  border-radius: 2px;
  padding: 2px 6px;
}
</style>
