<script setup lang="ts">
import { onBeforeUnmount, ref, watch } from 'vue'

import NumberField from './NumberField.vue'

/** A movie beside the viewport, in step with the playhead. It stays on this machine and is gone with the page. */
const props = defineProps<{ frame: number; first: number; fps: number; playing: boolean }>()
const emit = defineEmits<{ close: [] }>()

const address = ref('')
const problem = ref('')
const begins = ref(0) // s of the movie at the first frame
const video = ref<HTMLVideoElement>()
const SLACK = 0.15 // s that it may run away while playing

function choose(event: Event) {
  const file = (event.target as HTMLInputElement).files?.[0]
  if (!file) return
  if (address.value) URL.revokeObjectURL(address.value)
  problem.value = ''
  address.value = URL.createObjectURL(file)
}
const wanted = () => begins.value + (props.frame - props.first) / props.fps
function follow() {
  const v = video.value
  if (!v || !v.duration) return
  const time = Math.min(Math.max(wanted(), 0), v.duration)
  if (props.playing && !v.ended) {
    if (Math.abs(v.currentTime - time) > SLACK) v.currentTime = time
    void v.play().catch(() => {})
  } else {
    v.pause()
    v.currentTime = time
  }
}
watch(() => [props.frame, props.playing, begins.value], follow)
onBeforeUnmount(() => address.value && URL.revokeObjectURL(address.value))
</script>

<template>
  <section class="movie" aria-label="Reference movie">
    <video
      v-if="address"
      ref="video"
      :src="address"
      muted
      playsinline
      @loadedmetadata="follow"
      @error="problem = 'This browser cannot play that file; WebM and MP4 are usual.'"
    />
    <p v-if="problem" class="sentence bad" role="alert">{{ problem }}</p>
    <div class="bar">
      <input type="file" accept="video/*" aria-label="Movie file" @change="choose" />
      <template v-if="address">
        <label>begins at</label>
        <NumberField label="Movie begins at" unit="s" :value="begins" @keep="(v) => (begins = v ?? 0)" />
      </template>
      <button class="bare" aria-label="Close the movie" @click="emit('close')">✕</button>
    </div>
  </section>
</template>

<style scoped>
.movie {
  position: absolute;
  right: 14px;
  top: 50px;
  width: 300px;
  background: #151c20d8;
  border: 1px solid var(--line);
  border-radius: 3px;
}
video {
  display: block;
  width: 100%;
}
.bar {
  display: flex;
  gap: 6px;
  align-items: center;
  padding: 4px 6px;
  font-size: 11.5px;
}
input[type='file'] {
  flex: 1;
  min-width: 0;
  font-size: 11px;
}
.bar .number {
  flex: none;
  width: 70px;
}
</style>
