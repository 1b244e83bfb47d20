import { ref } from 'vue'

/** Files that are dragged onto the page are imported together. */
export function useDropping(allowed: () => boolean) {
  const importing = ref(false)
  const over = ref(false)
  const dropped = ref<File[]>([])

  function hovering(event: DragEvent) {
    if (!allowed() || !event.dataTransfer?.types.includes('Files')) return
    event.preventDefault()
    over.value = true
  }

  function takeDropped(event: DragEvent) {
    const files = [...(event.dataTransfer?.files ?? [])]
    over.value = false
    if (!files.length || !allowed()) return
    event.preventDefault()
    importing.value = true
    dropped.value = files
  }

  return { importing, over, dropped, hovering, takeDropped }
}
