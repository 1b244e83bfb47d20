import { onBeforeUnmount } from 'vue'

import { useSession } from '../session/useSession'

const AGAIN = 3000 // ms until a stream that was refused is asked for again

export interface RunEvent {
  type: 'run' | 'frame'
  run: number
  take: number
  quality: string
  status: string
  stages: string
  delivery: string
  stage: string
  frame: number | null
  done: number
  total: number
  seconds_left: number
  message: string
}

/** Somebody kept an edit of a take, or undid one. */
export interface TakeEvent {
  type: 'take'
  take: number
  revision: number
  by: string
}
export type AnyEvent = RunEvent | TakeEvent

const listeners = new Set<(event: AnyEvent) => void>()
let source: EventSource | undefined
let timer = 0

/** Listen to the page's one event stream while the component lives. */
export function useEvents(onEvent: (event: AnyEvent) => void) {
  const session = useSession()
  function open() {
    source = new EventSource('/api/events')
    source.onmessage = (message) => {
      const event = JSON.parse(message.data as string) as AnyEvent
      listeners.forEach((listener) => listener(event))
    }
    source.onerror = () => {
      if (source?.readyState !== EventSource.CLOSED) return // it tries again by itself
      void session.ask()
      timer = window.setTimeout(open, AGAIN)
    }
  }
  listeners.add(onEvent)
  if (listeners.size === 1) open()
  onBeforeUnmount(() => {
    listeners.delete(onEvent)
    if (listeners.size) return
    clearTimeout(timer)
    source?.close()
  })
}
