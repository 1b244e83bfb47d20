import { ref } from 'vue'

import { client, send } from './client'

const LOOK = 700 // ms between two looks at how many files have been read

/** Files on their way in: sent, then read; what is told says how far. */
export function useBringing(take: number) {
  const told = ref('')

  /** Send files and have something made of them; what is wrong with them is thrown. */
  async function bring<T>(
    files: File[],
    make: (upload: string) => Promise<{ data?: T; error?: unknown }>,
  ): Promise<T> {
    const many = files.length > 1 ? ` of ${files.length.toLocaleString('en')} files` : ''
    told.value = 'Sending…'
    let timer = 0
    try {
      const upload = await send(take, files, (sent) => {
        if (many) told.value = `Sent ${sent.toLocaleString('en')}${many}`
      })
      told.value = 'Reading…'
      const look = async () => {
        const path = { take_id: take, upload }
        const { data } = await client.GET('/api/takes/{take_id}/uploads/{upload}', { params: { path } })
        if (data?.read && timer) told.value = `Read ${data.read.toLocaleString('en')}${many}`
      }
      if (many) timer = window.setInterval(() => void look().catch(() => {}), LOOK)
      const { data, error } = await make(upload)
      if (!data) throw error
      return data
    } finally {
      clearInterval(timer)
      timer = 0
      told.value = ''
    }
  }
  return { told, bring }
}
