import { shallowRef } from 'vue'

import { client } from '../api/client'

/** Caches of a production's other takes, which can be joined to the surface. */
export function useCaches(id: number) {
  const caches = shallowRef<{ folder: string; name: string }[]>([])

  async function find(production: string) {
    const reply = await client.GET('/api/productions').catch(() => null)
    caches.value = (reply?.data ?? [])
      .filter((p) => p.name === production)
      .flatMap((p) => p.shots)
      .flatMap((shot) => shot.takes.map((t) => ({ id: t.id, name: `${shot.name}, ${t.name}` })))
      .filter((t) => t.id !== id)
      .flatMap((t) =>
        ['draft', 'proof', 'final'].map((q) => ({ folder: `../take-${t.id}/${q}`, name: `${t.name}, ${q}` })),
      )
  }
  return { caches, find }
}
