import { onBeforeUnmount, ref } from 'vue'

/** The playhead; playback skips ahead when drawing is slow and never waits for a frame. */
export function usePlayback(range: () => { first: number; last: number; fps: number }) {
  const frame = ref(1)
  const playing = ref(false)
  let handle = 0
  let started = 0
  let from = 0

  function go(n: number) {
    const { first, last } = range()
    frame.value = Math.min(Math.max(Math.round(n), first), last)
    if (playing.value) restart()
  }

  function restart() {
    started = performance.now()
    from = frame.value
  }

  function tick(now: number) {
    const { first, last, fps } = range()
    const length = last - first + 1
    const next = first + ((Math.floor(((now - started) / 1000) * fps) + from - first) % length)
    if (next !== frame.value) frame.value = next
    handle = requestAnimationFrame(tick)
  }

  function toggle() {
    playing.value = !playing.value
    cancelAnimationFrame(handle)
    if (playing.value) {
      restart()
      handle = requestAnimationFrame(tick)
    }
  }

  onBeforeUnmount(() => cancelAnimationFrame(handle))
  return { frame, playing, go, toggle }
}
