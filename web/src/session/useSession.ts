import { defineStore } from 'pinia'
import { ref } from 'vue'

import { client, problemsOf, type Said } from '../api/client'

/** Who is signed in. */
export const useSession = defineStore('session', () => {
  const known = ref(false)
  const name = ref<string | null>(null)

  async function ask() {
    const { data } = await client.GET('/api/session').catch(() => ({ data: undefined }))
    name.value = data?.name ?? null
    known.value = true
  }

  async function signIn(who: string, password: string): Promise<Said[]> {
    const { data, error } = await client
      .POST('/api/session', { body: { name: who, password } })
      .catch((error: unknown) => ({ data: undefined, error }))
    if (!data) return problemsOf(error)
    name.value = data.name
    return []
  }

  async function signOut() {
    await client.DELETE('/api/session')
    name.value = null
  }

  return { known, name, ask, signIn, signOut }
})
