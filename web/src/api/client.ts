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
export const plainly = (says: string): Said => ({ says, where: '', element: '', leads_to: '', remedy: null })

/** What a refused request came with. */
export function problemsOf(error: unknown): Said[] {
  const problems = (error as { problems?: Said[] } | undefined)?.problems
  return problems?.length ? problems : [plainly('The server did not answer as expected; try again.')]
}

/** Post a file, which the typed client has no words for. */
export async function upload<T = Schemas['MeshReply']>(url: string, files: File[]): Promise<T> {
  const form = new FormData()
  for (const file of files) form.append('file', file)
  const reply = await fetch(url, {
    method: 'POST',
    body: form,
    headers: { 'X-CSRFToken': cookie('csrftoken') },
  })
  const answer: unknown = await reply.json().catch(() => ({}))
  if (!reply.ok) throw answer
  return answer as T
}
