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

/** Listen to the page's one event stream while the component lives. */
export function useEvents(onEvent: (event: RunEvent) => void) {
  const session = useSession()
  let source: EventSource
  let timer = 0
  function open() {
    source = new EventSource('/api/events')
    source.onmessage = (message) => onEvent(JSON.parse(message.data as string) as RunEvent)
    source.onerror = () => {
      if (source.readyState !== EventSource.CLOSED) return // it tries again by itself
      void session.ask()
      timer = window.setTimeout(open, AGAIN)
    }
  }
  open()
  onBeforeUnmount(() => {
    clearTimeout(timer)
    source.close()
  })
}
