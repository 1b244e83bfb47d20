import { onBeforeUnmount, ref } from 'vue'

import { client } from '../api/client'
import { duration } from './words'

const PAUSE = 2000

/** What is said while kernels are compiled; nothing once they are, or when nobody compiles them. */
export function useReadiness() {
  const said = ref('')
  let timer: ReturnType<typeof setTimeout> | undefined
  let gone = false

  async function look() {
    const reply = await client.GET('/api/readiness').catch(() => null)
    if (gone) return
    const now = reply?.data
    if (now && !now.working) {
      said.value = ''
      return
    }
    if (now) {
      const left = Math.max(0, ...Object.values(now.seconds_left))
      const share = `${now.done} of ${now.total} parts`
      said.value = `Making the solver ready: ${share}${left ? `, ${duration(left)} left` : ''}`
    }
    timer = setTimeout(look, PAUSE)
  }
  void look()
  onBeforeUnmount(() => {
    gone = true
    clearTimeout(timer)
  })
  return said
}
