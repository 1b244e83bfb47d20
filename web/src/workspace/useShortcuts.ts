import { onBeforeUnmount, onMounted } from 'vue'

export type Shortcut = [key: string, does: string, action: () => void]

/** Keys that do something wherever the page has the focus, but in fields and dialogs; `held` with Ctrl. */
export function useShortcuts(
  shortcuts: () => Shortcut[],
  undo: () => void,
  redo: () => void,
  held: Record<string, () => void> = {},
) {
  function onKey(event: KeyboardEvent) {
    const target = event.target as HTMLElement
    if (target.closest('input, select, textarea, [role=listbox]')) return
    if (document.querySelector('.v-overlay--active .panel')) return
    if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === 'z') {
      event.preventDefault()
      if (event.shiftKey) redo()
      else undo()
      return
    }
    const letter = event.key.toLowerCase()
    if ((event.ctrlKey || event.metaKey) && held[letter] && !getSelection()?.toString()) {
      event.preventDefault()
      held[letter]()
    }
    if (event.ctrlKey || event.metaKey || event.altKey) return
    const key = event.key === ' ' ? 'Space' : event.key
    if (key === 'Space' && target.closest('button, a')) return
    const found = shortcuts().find(([k]) => k === key)
    if (found) {
      event.preventDefault()
      found[2]()
    }
  }
  onMounted(() => addEventListener('keydown', onKey))
  onBeforeUnmount(() => removeEventListener('keydown', onKey))
}
