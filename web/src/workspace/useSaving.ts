import { computed, onBeforeUnmount, onMounted, ref, shallowRef, watch } from 'vue'

import { client, problemsOf, type Said, type Schemas } from '../api/client'
import { useSession } from '../session/useSession'
import type { SceneDocument } from './useTake'

const PAUSES = [500, 1000, 2000, 4000, 8000] // ms before an edit that did not get through is sent again
const WAITED = [401, 403, 429] // signed out, page out of date, too much at once: it gets through later

/** A scene on its way, or a step back or on through those that were kept. */
type Edit = { scene: SceneDocument } | { step: 'undo' | 'redo' }

/**
 * The scene on screen and the one that is kept, and the edits on their way from one to the other.
 *
 * Edits are sent one after the other. One that does not get through is sent again until it does, or until a newer one,
 * which holds it, takes its place; one that is refused is told, and when no newer one waits the screen goes back to
 * what is kept. Where somebody else changed the take, all that wait are refused. What the server makes of an edit is
 * shown only when no newer one waits. What can be undone is kept with the take: a step is asked for like an edit is sent.
 */
export function useSaving(id: number, onKept: (take: Schemas['TakeDetail']) => void) {
  const scene = shallowRef<SceneDocument | null>(null)
  const refused = ref<Said[]>([])
  const undoable = ref(0)
  const redoable = ref(0)
  const waiting = ref(0)
  const failing = ref(false)
  const queue: Edit[] = []
  let kept: SceneDocument | null = null
  let revision = 0
  let working = false
  let hurry: (() => void) | undefined

  /** Take over a take as the server has it. */
  function adopt(take: Schemas['TakeDetail']) {
    know(take)
    if (!queue.length) scene.value = kept
  }

  function know(take: Schemas['TakeDetail']) {
    kept = take.scene
    revision = take.revision
    undoable.value = take.undoable
    redoable.value = take.redoable
    onKept(take)
  }

  /** Put an edit on its way; done when nothing waits any more. */
  function keep(next: SceneDocument): Promise<void> {
    scene.value = next
    return put({ scene: next })
  }

  function put(edit: Edit): Promise<void> {
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
        // a scene holds all that the one before it changed; a step does not
        if (queue.length > 1 && 'scene' in queue[0] && 'scene' in queue[1]) queue.shift()
        else await pause(PAUSES[Math.min(tries++, PAUSES.length - 1)])
      } else {
        failing.value = false
        tries = 0
        queue.shift()
      }
      waiting.value = queue.length
      if (got === 'kept' && !queue.length) refused.value = []
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
      const params = { path: { take_id: id } }
      const { data, error, response } =
        'scene' in edit
          ? await client.PUT('/api/takes/{take_id}/scene', { params, body: { revision, scene: edit.scene } })
          : await client.POST(`/api/takes/{take_id}/${edit.step}`, { params, body: { revision } })
      if (data) {
        know(data)
        return 'kept'
      }
      if (response.status === 403 && (await reload()) === 'viewer') {
        refused.value = problemsOf(error)
        return 'refused'
      }
      if (response.status >= 500 || WAITED.includes(response.status)) return 'lost'
      refused.value = problemsOf(error)
      if (response.status !== 409) return 'refused'
      // what waits was made on what is not kept any more: sent after it, it would undo what somebody else did
      queue.splice(1)
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
    return data?.role
  }

  const undo = async () => (undoable.value || queue.length) && put({ step: 'undo' })
  const redo = async () => redoable.value && put({ step: 'redo' })

  /** Somebody else, or another page, kept something: it is shown unless edits of one's own are on their way. */
  async function heard(theirs: number) {
    if (theirs > revision && !queue.length) await reload()
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
  return {
    scene,
    refused,
    undoable,
    redoable,
    state,
    adopt,
    keep,
    undo,
    redo,
    heard,
    revision: () => revision,
  }
}
