import { computed, onBeforeUnmount, onMounted, ref, shallowRef, watch } from 'vue'

import { client, problemsOf, type Said, type Schemas } from '../api/client'
import { useSession } from '../session/useSession'
import type { SceneDocument } from './useTake'

const PAUSES = [500, 1000, 2000, 4000, 8000] // ms before an edit that did not get through is sent again
const WAITED = [401, 403, 429] // signed out, page out of date, too much at once: it gets through later
const MOST_STEPS = 100 // that can be undone

interface Edit {
  scene: SceneDocument
  /** what was there before it, in the list of what can be undone; nothing if it is itself an undoing */
  before: SceneDocument | null
}

/**
 * The scene on screen and the one that is kept, and the edits on their way from one to the other.
 *
 * Edits are sent one after the other. One that does not get through is sent again until it does, or until a newer one,
 * which holds it, takes its place; one that is refused is told, and when no newer one waits the screen goes back to
 * what is kept. Where somebody else changed the take, all that wait are refused. What the server makes of an edit is
 * shown only when no newer one waits.
 */
export function useSaving(id: number, onKept: (take: Schemas['TakeDetail']) => void) {
  const scene = shallowRef<SceneDocument | null>(null)
  const refused = ref<Said[]>([])
  const undoable = shallowRef<SceneDocument[]>([])
  const redoable = shallowRef<SceneDocument[]>([])
  const waiting = ref(0)
  const failing = ref(false)
  const queue: Edit[] = []
  let kept: SceneDocument | null = null
  let revision = 0
  let working = false
  let hurry: (() => void) | undefined

  /** Take over a take as the server has it. */
  function adopt(take: Schemas['TakeDetail']) {
    kept = take.scene
    revision = take.revision
    if (!queue.length) scene.value = kept
    onKept(take)
  }

  /** Put an edit on its way; done when nothing waits any more. */
  function keep(next: SceneDocument): Promise<void> {
    const before = scene.value!
    undoable.value = [...undoable.value, before].slice(-MOST_STEPS)
    redoable.value = []
    return put({ scene: next, before })
  }

  function put(edit: Edit): Promise<void> {
    scene.value = edit.scene
    queue.push(edit)
    waiting.value = queue.length
    hurry?.()
    return work()
  }

  let done: Promise<void> = Promise.resolve()
  function work(): Promise<void> {
    if (!working) {
      working = true
      done = sendAll().finally(() => (working = false))
    }
    return done
  }

  async function sendAll() {
    for (let tries = 0; queue.length;) {
      const edit = queue[0]
      const got = await send(edit)
      if (got === 'lost') {
        failing.value = true
        if (queue.length > 1) queue.shift()
        else await pause(PAUSES[Math.min(tries++, PAUSES.length - 1)])
      } else {
        failing.value = false
        tries = 0
        queue.shift()
      }
      waiting.value = queue.length
      if (got === 'kept' && !queue.length) refused.value = []
      if (got === 'refused') takeBack(edit)
      if (!queue.length && kept) scene.value = kept
    }
  }

  function pause(ms: number): Promise<void> {
    return new Promise((resolve) => {
      const timer = setTimeout(resolve, ms)
      hurry = () => {
        clearTimeout(timer)
        resolve()
      }
    })
  }

  async function send(edit: Edit): Promise<'kept' | 'refused' | 'lost'> {
    try {
      const { data, error, response } = await client.PUT('/api/takes/{take_id}/scene', {
        params: { path: { take_id: id } },
        body: { revision, scene: edit.scene },
      })
      if (data) {
        kept = data.scene
        revision = data.revision
        onKept(data)
        return 'kept'
      }
      if (response.status >= 500 || WAITED.includes(response.status)) return 'lost'
      refused.value = problemsOf(error)
      if (response.status !== 409) return 'refused'
      // what waits was made on what is not kept any more: sent after it, it would undo what somebody else did
      queue.splice(1).forEach(takeBack)
      await reload()
      return 'refused'
    } catch {
      return 'lost'
    }
  }

  /** Somebody else changed the take: what is kept is theirs. */
  async function reload() {
    const { data } = await client.GET('/api/takes/{take_id}', { params: { path: { take_id: id } } })
    if (data) adopt(data)
  }

  function takeBack(edit: Edit) {
    if (edit.before) undoable.value = undoable.value.filter((other) => other !== edit.before)
  }

  async function undo() {
    const before = undoable.value.at(-1)
    if (!before) return
    undoable.value = undoable.value.slice(0, -1)
    redoable.value = [...redoable.value, scene.value!]
    await put({ scene: before, before: null })
  }

  async function redo() {
    const next = redoable.value.at(-1)
    if (!next) return
    redoable.value = redoable.value.slice(0, -1)
    undoable.value = [...undoable.value, scene.value!]
    await put({ scene: next, before: null })
  }

  /** Leaving with edits on their way asks first. */
  function onLeave(event: BeforeUnloadEvent) {
    if (queue.length) event.preventDefault()
  }
  onMounted(() => addEventListener('beforeunload', onLeave))
  onBeforeUnmount(() => removeEventListener('beforeunload', onLeave))

  const session = useSession()
  watch(
    () => session.lapsed,
    () => hurry?.(), // signed in again: what waits goes now
  )

  const state = computed(() => (failing.value ? 'failing' : waiting.value ? 'waiting' : 'kept'))
  return { scene, refused, undoable, redoable, state, adopt, keep, undo, redo }
}
