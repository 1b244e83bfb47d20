import createClient from 'openapi-fetch'

import type { components, paths } from './schema'

export type Schemas = components['schemas']

function cookie(name: string): string {
  return (
    document.cookie
      .split('; ')
      .find((c) => c.startsWith(`${name}=`))
      ?.split('=')[1] ?? ''
  )
}

/** What writing requests must carry. */
export const csrf = () => cookie('csrftoken')

export const client = createClient<paths>({ baseUrl: '' })
client.use({
  onRequest({ request }) {
    if (request.method !== 'GET') request.headers.set('X-CSRFToken', cookie('csrftoken'))
    return request
  },
})

export type Said = Schemas['Said']

/** Something to say that came from nowhere but here. */
export const plainly = (says: string): Said => ({
  says,
  where: '',
  element: '',
  leads_to: '',
  remedy: null,
  rule: '',
  show: null,
})

/** What a refused request came with. */
export function problemsOf(error: unknown): Said[] {
  const problems = (error as { problems?: Said[] } | undefined)?.problems
  return problems?.length ? problems : [plainly('The server did not answer as expected; try again.')]
}

const FILES = 100 // in one request
const BYTES = 500e6

/** Send files, which the typed client has no words for, in as many requests as they need; what they are called then. */
export async function send(take: number, files: File[], tell: (sent: number) => void = () => {}) {
  let upload = ''
  for (let sent = 0; sent < files.length;) {
    const form = new FormData()
    let bytes = 0
    let count = 0
    for (const file of files.slice(sent, sent + FILES)) {
      if (count && bytes + file.size > BYTES) break
      form.append('file', file)
      bytes += file.size
      count += 1
    }
    const reply = await fetch(`/api/takes/${take}/uploads?upload=${upload}`, {
      method: 'POST',
      body: form,
      headers: { 'X-CSRFToken': csrf() },
    })
    const answer: unknown = await reply.json().catch(() => ({}))
    if (!reply.ok) throw answer
    upload = (answer as Schemas['Sent']).upload
    sent += count
    tell(sent)
  }
  return upload
}
