import { shallowRef } from 'vue'

import { client, type Schemas } from '../api/client'

/** The stages as the server declares them, in their order; asked for once. */
const stages = shallowRef<Schemas['StageCard'][]>([])
let asked: Promise<void> | undefined

export function useStages() {
  asked ??= client.GET('/api/stages').then(
    ({ data }) => {
      if (data) stages.value = data
      else asked = undefined
    },
    () => {
      asked = undefined
    },
  )
  return { stages, ready: () => asked ?? Promise.resolve() }
}
