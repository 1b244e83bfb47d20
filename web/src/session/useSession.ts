import { defineStore } from 'pinia'
import { ref } from 'vue'

import { client, problemsOf, type Said } from '../api/client'

/** Who is signed in. */
export const useSession = defineStore('session', () => {
  const known = ref(false)
  const name = ref<string | null>(null)
  /** whoever was signed in is not any more, as the server says; what is on screen stays until they are again */
  const lapsed = ref(false)
  /** how often somebody has signed in, now and when a request went: what one of before is told says nothing of now */
  let entries = 0
  const sent = new WeakMap<Request, number>()
  client.use({
    onRequest({ request }) {
      sent.set(request, entries)
    },
    onResponse({ request, response }) {
      if (response.status === 401 && name.value && sent.get(request) === entries) lapsed.value = true
    },
  })

  async function ask() {
    const { data } = await client.GET('/api/session').catch(() => ({ data: undefined }))
    if (name.value && data && !data.name) lapsed.value = true
    else name.value = data?.name ?? name.value
    known.value = true
  }

  async function signIn(who: string, password: string): Promise<Said[]> {
    const { data, error } = await client
      .POST('/api/session', { body: { name: who, password } })
      .catch((error: unknown) => ({ data: undefined, error }))
    if (!data) return problemsOf(error)
    if (lapsed.value && data.name !== name.value) location.assign('/') // somebody else: nothing of the other's stays
    entries += 1
    lapsed.value = false
    name.value = data.name
    return []
  }

  async function signOut() {
    await client.DELETE('/api/session')
    name.value = null
  }

  return { known, name, lapsed, ask, signIn, signOut }
})
