import { unpack, type Packed } from '../viewport/packed'
import { csrf, problemsOf } from './client'

/** Asks an address for what is packed for the viewport; of several questions the newest wins. */
export function useNewest() {
  let running: AbortController | undefined

  /** The answer, what is wrong, or neither where a newer one of another page won; null if superseded here. */
  async function ask(address: string, body: object): Promise<{ packed?: Packed; problem?: string } | null> {
    running?.abort()
    const mine = (running = new AbortController())
    let answer: { packed?: Packed; problem?: string } = {}
    try {
      const reply = await fetch(address, {
        method: 'POST',
        headers: { 'Content-Type': 'application/json', 'X-CSRFToken': csrf() },
        body: JSON.stringify(body),
        signal: mine.signal,
      })
      if (reply.ok) answer = { packed: unpack(await reply.arrayBuffer()) }
      else if (reply.status !== 409)
        answer = { problem: problemsOf(await reply.json().catch(() => null))[0].says }
    } catch (error) {
      if ((error as Error).name !== 'AbortError')
        answer = { problem: 'The server did not answer; try again.' }
    }
    return mine === running ? answer : null
  }

  function end() {
    running?.abort()
    running = undefined
  }

  return { ask, end }
}
