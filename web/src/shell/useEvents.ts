import { onBeforeUnmount } from 'vue'

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
  const source = new EventSource('/api/events')
  source.onmessage = (message) => onEvent(JSON.parse(message.data as string) as RunEvent)
  onBeforeUnmount(() => source.close())
}
