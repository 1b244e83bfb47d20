<script setup lang="ts">
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'

import { useStages } from '../shell/useStages'
import { Viewport } from '../viewport/viewport'
import { fetchPacked } from '../viewport/packed'

/** Six frames along a shot's time, drawn small from the cached particles. */
const props = defineProps<{ take: number; first: number; last: number; ready: number }>()

const { stages, ready: stagesThere } = useStages()
const COUNT = 6
const pictures = ref<string[]>(Array(COUNT).fill(''))
const drawing = ref(true)
let gone = false

function frames(): number[] {
  return Array.from({ length: COUNT }, (_, i) =>
    Math.round(props.first + ((props.last - props.first) * i) / (COUNT - 1)),
  )
}

/** Whether a frame is there to be drawn. */
const due = (i: number) => frames()[i] < props.first + props.ready

async function draw() {
  await stagesThere()
  const stage = stages.value[0]
  if (!stage || gone) return
  const canvas = document.createElement('canvas')
  const port = new Viewport(canvas, { small: true })
  try {
    await port.loadTake(props.take)
    port.resize(132, 84)
    for (const [i, frame] of frames().entries()) {
      if (gone || !due(i)) break
      const packed = await fetchPacked(
        `/api/takes/${props.take}/view/draft/${stage.name}/${frame}?budget=9000`,
      )
      if (!packed || gone) break
      port.showTime(frame - props.first)
      if (packed.kind === 'points') port.showPoints(packed)
      else port.showMesh(packed)
      pictures.value[i] = port.picture()
    }
  } finally {
    port.dispose()
    drawing.value = false
  }
}

onMounted(draw)
watch(
  () => Math.floor((props.ready / (props.last - props.first + 1)) * (COUNT - 1)),
  () => void draw(),
)
onBeforeUnmount(() => (gone = true))
</script>

<template>
  <div class="strip" aria-hidden="true">
    <div v-for="(picture, i) in pictures" :key="i" class="cell">
      <img v-if="picture && due(i)" :src="picture" width="132" height="84" alt="" />
      <i v-else-if="drawing && due(i)" />
      <span class="n">{{ frames()[i] }}</span>
    </div>
  </div>
</template>

<style scoped>
.strip {
  display: flex;
  gap: 2px;
}
.cell {
  width: 132px;
  height: 84px;
  background: var(--deep);
  position: relative;
}
.cell i {
  position: absolute;
  left: 50%;
  top: 50%;
  width: 34px;
  height: 2px;
  margin-left: -17px;
  background: linear-gradient(90deg, transparent, #93a4a9, transparent);
  animation: flow 1.2s linear infinite;
}
@keyframes flow {
  from {
    transform: translateX(-24px);
  }
  to {
    transform: translateX(24px);
  }
}
.cell span {
  position: absolute;
  right: 4px;
  bottom: 2px;
  font-size: 10px;
  color: var(--dim);
}
</style>
