<script setup lang="ts">
/** A line drawing of what a starting scene does, in the hand of the mark. */
defineProps<{ name: string }>()
</script>

<template>
  <svg viewBox="0 0 96 54" width="100%" height="54" aria-hidden="true">
    <g class="solid">
      <template v-if="name === 'pour'">
        <path d="M36 22c-6 8-5 20 0 26h24c5-6 6-18 0-26" />
        <path d="M20 49h56" />
      </template>
      <path v-else-if="name === 'drop'" d="M14 30v18h68V30" />
      <path v-else-if="name === 'wall'" d="M12 14v34h72V14M22 14v34M16 24l-3 3 3 3" />
      <circle v-else-if="name === 'jet'" cx="60" cy="26" r="12" />
      <path
        v-else-if="name === 'fills'"
        d="M42 20c-6 3-16 8-16 17 0 8 8 11 22 11s22-3 22-11c0-9-10-14-16-17 8-4 8-14-6-14s-14 10-6 14z"
      />
      <path v-else-if="name === 'bursts'" d="M12 48h72" />
      <path v-else d="M22 16l26-9 26 9v24l-26 9-26-9zM22 16l26 9 26-9M48 25v24" stroke-dasharray="2 3" />
    </g>
    <g class="liquid">
      <template v-if="name === 'pour'">
        <path d="M48 4v30M45 4v28M51 4v28" />
        <path class="full" d="M33 36c5-3 9 2 15 0s10 2 15-1c1 6-1 10-4 13H37c-3-3-5-7-4-12z" />
      </template>
      <template v-else-if="name === 'drop'">
        <circle class="full" cx="48" cy="13" r="6" />
        <path class="full" d="M14 34c10-2 16 2 22-4l3 6c6 4 12 4 18 0l3-6c6 6 12 2 22 4v14H14z" />
      </template>
      <path v-else-if="name === 'wall'" class="full" d="M24 26c12-6 16-2 22 6 6 7 22 0 38 2v14H24z" />
      <path
        v-else-if="name === 'jet'"
        d="M8 20c16-5 28-6 40-1M8 25h38M8 30c14 2 26 2 39 2M52 12c4-6 10-8 16-7M73 24c8-2 12 0 14 4M72 33c6 4 8 8 8 14M52 38c-2 4-2 8-1 11"
      />
      <template v-else-if="name === 'fills'">
        <path d="M48 10v22" />
        <path class="full" d="M27 38c8-3 14 2 21 0s14 2 21-1c1 8-8 11-21 11s-21-2-21-10z" />
      </template>
      <path
        v-else-if="name === 'bursts'"
        d="M48 40L30 22M48 40L40 12M48 40l8-28M48 40l19-17M48 40L22 36M48 40l27-4M27 20l-3-4M39 8l-1-4M57 8l2-4M70 20l4-4M18 35l-5-1M79 35l5-1"
      />
    </g>
  </svg>
</template>

<style scoped>
g {
  fill: none;
  stroke-width: 1.4;
  stroke-linecap: round;
  stroke-linejoin: round;
}
.solid {
  stroke: var(--dim);
}
.liquid {
  stroke: var(--accent);
}
.full {
  fill: color-mix(in srgb, var(--accent) 28%, transparent);
}
</style>
