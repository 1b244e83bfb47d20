<script setup lang="ts">
import { computed } from 'vue'

/** A small vessel: filled to the share of current frames, hatched for what is out of date. */
const props = defineProps<{ current: number; stale: number; total: number; label: string; height?: number }>()

const uid = `hatch-${Math.random().toString(36).slice(2)}`
const level = (n: number) => (props.total ? (n / props.total) * 30 : 0)
const full = computed(() => level(props.current))
const old = computed(() => level(props.stale))
</script>

<template>
  <svg
    :height="height ?? 44"
    viewBox="0 0 34 42"
    role="img"
    :aria-label="`${label}: ${current} of ${total} frames current, ${stale} out of date`"
  >
    <defs>
      <pattern :id="uid" width="5" height="5" patternTransform="rotate(45)" patternUnits="userSpaceOnUse">
        <rect width="5" height="5" fill="var(--deep)" />
        <rect width="2.4" height="5" fill="var(--brass)" />
      </pattern>
      <clipPath :id="`${uid}-c`"><path d="M3.4 5h27.2l-3.6 33H7z" /></clipPath>
    </defs>
    <path d="M3.4 5h27.2l-3.6 33H7z" fill="var(--deep)" />
    <g :clip-path="`url(#${uid}-c)`">
      <rect x="0" width="34" :y="38 - full" :height="full" fill="var(--accent)" />
      <rect x="0" width="34" :y="38 - full - old" :height="old" :fill="`url(#${uid})`" />
    </g>
    <path d="M2 4h30l-4 35H6z" fill="none" stroke="var(--dim)" stroke-width="1.3" />
  </svg>
</template>
