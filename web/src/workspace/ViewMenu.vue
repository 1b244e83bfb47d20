<script setup lang="ts">
import { computed, ref } from 'vue'

import NumberField from './NumberField.vue'
import type { SceneDocument } from './useTake'
import type { Views } from './useViews'

/** From where the shot is seen: its camera, views kept by name, along the axes, several at once. */
const props = defineProps<{ views: Views; scene: SceneDocument; edits: boolean }>()
const emit = defineEmits<{ bring: []; movie: []; keep: [scene: SceneDocument] }>()

const open = ref(false)
const name = ref('')
const still = computed(() => typeof props.scene.camera.angle === 'number')
const film = computed<number>(() => props.scene.camera.film ?? 36)
const high = computed(() => (film.value * 9) / 16 / 2)
/** mm, of the upright angle on a frame of 16 to 9 */
const focal = computed(
  () => +(high.value / Math.tan(((props.scene.camera.angle as number) * Math.PI) / 360)).toPrecision(4),
)
function giveFocal(length: number | null) {
  if (!length || length <= 0) return
  const angle = +((Math.atan(high.value / length) * 360) / Math.PI).toFixed(4)
  emit('keep', { ...structuredClone(props.scene), camera: { ...props.scene.camera, angle } })
}
function keepView() {
  props.views.keep(name.value)
  name.value = ''
}
const kept = computed(() => (props.scene.views ?? []) as (SceneDocument & { name: string })[])
</script>

<template>
  <v-menu v-model="open" :close-on-content-click="false">
    <template #activator="{ props: activator }">
      <button class="bare chipped" aria-label="Views" v-bind="activator">Views</button>
    </template>
    <div class="menu views">
      <button class="bare" @click="views.through()">Shot camera <kbd>c</kbd></button>
      <button class="bare" @click="views.whole()">Whole domain <kbd>w</kbd></button>
      <button class="bare" @click="views.near()">What is picked <kbd>4</kbd></button>
      <button class="bare" @click="views.along('z')">Front <kbd>5</kbd></button>
      <button class="bare" @click="views.along('x')">Side <kbd>6</kbd></button>
      <button class="bare" @click="views.along('y')">Top <kbd>7</kbd></button>
      <hr />
      <div v-for="(v, i) in kept" :key="v.name" class="kept">
        <button class="bare" @click="views.stand(v)">{{ v.name }}</button>
        <button
          v-if="edits"
          class="bare dim"
          title="The shot is seen from there"
          @click="views.useForShot(v)"
        >
          for the shot
        </button>
        <button v-if="edits" class="bare dim" :aria-label="`Forget ${v.name}`" @click="views.forget(i)">
          ✕
        </button>
      </div>
      <form v-if="edits" class="kept" @submit.prevent="keepView">
        <input v-model="name" placeholder="Name of this view" aria-label="Name of this view" maxlength="80" />
        <button class="bare" :disabled="!name.trim()">Keep</button>
      </form>
      <template v-if="edits">
        <button class="bare" @click="views.useHere(false)">Put the shot camera here</button>
        <button class="bare" title="At the playhead" @click="views.useHere(true)">
          Key the shot camera here
        </button>
        <button class="bare" title="From a USD or Alembic file" @click="((open = false), emit('bring'))">
          Bring a camera…
        </button>
        <div v-if="still" class="kept focal">
          <span>Focal length</span>
          <NumberField label="Focal length" unit="mm" :value="focal" @keep="giveFocal" />
        </div>
      </template>
      <hr />
      <div class="kept">
        <span>Views at once <kbd>8</kbd></span>
        <button
          v-for="n in [1, 2, 4]"
          :key="n"
          class="bare n"
          :class="{ on: views.count.value === n }"
          :aria-label="`${n} views`"
          @click="views.show(n)"
        >
          {{ n }}
        </button>
      </div>
      <button class="bare" @click="((open = false), emit('movie'))">A reference movie</button>
      <button class="bare" @click="views.full()">Full screen <kbd>9</kbd></button>
      <button class="bare" :class="{ on: views.figure.value }" @click="views.toggleFigure()">
        {{ views.figure.value ? 'No figure' : 'A figure of 1.75 m' }} <kbd>0</kbd>
      </button>
    </div>
  </v-menu>
</template>

<style scoped>
.chipped {
  background: #1a2226e6;
  color: #93a4a9;
  padding: 4px 10px;
  font-size: 12px;
}
.chipped:hover,
.chipped[aria-expanded='true'] {
  background: #2a363ce6;
  color: #d9e1e1;
}
.views {
  min-width: 220px;
  padding: 6px;
}
.views button {
  padding: 3px 8px;
  text-align: left;
  font-size: 12.5px;
}
.views > button {
  display: flex;
  justify-content: space-between;
  width: 100%;
}
.kept {
  display: flex;
  gap: 4px;
  align-items: center;
  padding: 1px 0;
  font-size: 12.5px;
}
.kept > :first-child {
  flex: 1;
  min-width: 0;
}
.kept span {
  padding-left: 8px;
}
.kept .on {
  color: var(--accent);
}
.focal {
  padding-right: 8px;
}
input {
  padding: 3px 8px;
  color: var(--text);
  background: var(--deep);
  border: 1px solid var(--line);
  border-radius: 2px;
  font-size: 12px;
}
kbd {
  color: var(--dim);
  font-family: inherit;
  font-size: 11px;
}
hr {
  border: 0;
  border-top: 1px solid var(--line);
  margin: 4px 0;
}
</style>
