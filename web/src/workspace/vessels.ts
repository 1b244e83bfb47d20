import type { Schemas } from '../api/client'
import { bytes, duration } from '../shell/words'
import type { Filled } from './StageRail.vue'

/** Stages as vessels, each filled to the share of its frames that is current. */
export function vesselsOf(reports: Schemas['StageReport'][], titleOf: (name: string) => string): Filled[] {
  return reports.map((r) => {
    const count = (state: string) => r.states.filter((s) => s === state).length
    return {
      name: r.stage,
      title: titleOf(r.stage),
      told: `${bytes(r.bytes)} on disk, ${duration(r.seconds)} of work`,
      empty: 'empty',
      current: count('current'),
      stale: count('stale'),
      failed: count('failed'),
      total: r.states.length,
      bytes: r.bytes,
    }
  })
}
