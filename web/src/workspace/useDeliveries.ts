import { computed, shallowRef, watch, type Ref } from 'vue'

import { client, type Schemas } from '../api/client'

/** What of each delivery is written, and of all of them together. */
export function useDeliveries(id: number, quality: Ref<string>, reports: Ref<unknown>) {
  const deliveries = shallowRef<Schemas['DeliveryReport'][]>([])
  let asked = 0

  async function refresh() {
    const mine = ++asked
    const path = { take_id: id, quality: quality.value }
    const reply = await client
      .GET('/api/takes/{take_id}/deliveries/{quality}', { params: { path } })
      .catch(() => null)
    if (mine === asked && reply?.data) deliveries.value = reply.data
  }
  watch([reports, quality], refresh)

  const sumOf = (what: 'current' | 'stale' | 'total' | 'bytes') =>
    deliveries.value.reduce((sum, d) => sum + d[what], 0)
  const vessel = computed(() => ({
    name: 'delivery',
    title: 'Delivery',
    told: 'Files for who takes over',
    empty: deliveries.value.length ? 'empty' : 'none',
    current: sumOf('current'),
    stale: sumOf('stale'),
    failed: 0,
    total: sumOf('total'),
    bytes: sumOf('bytes'),
  }))
  return { deliveries, vessel, refresh }
}
