import * as THREE from 'three'
import { computed, ref, shallowRef, watch, type Ref } from 'vue'

import { client, problemsOf, type Said, type Schemas } from '../api/client'
import { Aim, Drop, Raise, type Gesture, type Ground, type Solid, type Spot } from '../viewport/gestures'
import type { Way } from '../viewport/handles'
import type { Viewport } from '../viewport/viewport'
import { PullWall } from '../viewport/walls'
import { FillRoom } from './fillRoom'
import { moved } from './poses'
import type { SceneDocument } from './useTake'

export type Tool = 'inflow' | 'fill' | 'drop' | Solid | 'drain'
const SOLIDS: Record<Solid, string> = {
  box: 'Box',
  sphere: 'Ball',
  plane: 'Ground',
  tub: 'Tub',
  tube: 'Pipe',
}
const EVERY = 60 // ms at least between two flights that are asked for
const NEAR = 26 // pixels within which an opening is meant

interface At {
  scene: Ref<SceneDocument | null>
  quality: Ref<'draft' | 'proof' | 'final'>
  frame: Ref<number>
  element: Ref<number | null>
  keep: (scene: SceneDocument) => Promise<void>
  add: (element: SceneDocument) => Promise<void>
}

/** Setting up by hand: tools that put things in, handles that move what is there, and what they say meanwhile. */
export function usePlacing(id: number, port: () => Viewport | undefined, at: At) {
  const tool = ref<Tool | null>(null)
  const way = ref<Way>('translate')
  const own = ref(false)
  const recording = ref(false)
  const said = shallowRef<{ lines: string[]; x: number; y: number }>({ lines: [], x: 0, y: 0 })
  const flight = shallowRef<Schemas['FlightReply'] | null>(null)
  const problems = ref<Said[]>([])
  const path = { take_id: id }
  const shotTime = () => (at.frame.value - at.scene.value!.time.first) / at.scene.value!.time.fps

  const ground = computed<Ground>(() => {
    const { domain, liquid, time, quality } = at.scene.value!
    const pull = Array.isArray(liquid.gravity) ? Math.hypot(...(liquid.gravity as number[])) : 9.80665
    return {
      gravity: Math.max(pull * (time.time_scale ?? 1) ** 2, 1e-6),
      dx: liquid.voxel_size * (at.quality.value === 'final' ? 1 : quality[at.quality.value]),
      frameSeconds: 1 / time.fps,
      substeps: liquid.substeps_max ?? 16,
      reach: Math.max(...(domain.size as number[])),
    }
  })

  /** Take up a tool, or put it down. */
  function take(next: Tool | null) {
    tool.value = next
    problems.value = []
    port()?.sketch.outlines('openings', [])
    port()?.sketch.outlines('level', [])
    port()?.use(next && gestureOf(next))
    if (!next) void fly()
    if (next === 'inflow') void findOpenings()
  }

  function gestureOf(which: Tool): Gesture {
    if (which === 'drop') return new Drop(ground.value)
    if (which === 'inflow') return new Aim(ground.value)
    if (which === 'drain') return new Raise(ground.value, 'box', 'drain', 'Drain')
    if (which === 'fill') return new FillRoom(askRoom, ground.value)
    return new Raise(ground.value, which, 'collider', SOLIDS[which])
  }

  // the newest answer is shown; a gesture asks for no more than can be answered
  let asking = false
  let next: (() => Promise<void>) | null = null
  async function newest(ask: () => Promise<void>) {
    if (asking) {
      next = ask
      return
    }
    asking = true
    try {
      await ask()
      await new Promise((resolve) => setTimeout(resolve, EVERY))
    } finally {
      asking = false
      const waiting = next
      next = null
      if (waiting) void newest(waiting)
    }
  }

  /** How the stream of what is picked, or of what is being put in, will fly. */
  async function fly(provisional?: SceneDocument) {
    const scene = at.scene.value
    const index = provisional ? scene?.elements.length : at.element.value
    const meant = provisional ?? (index === null ? null : scene?.elements[index!])
    if (!scene || meant?.kind !== 'inflow') {
      flight.value = null
      port()?.sketch.stream(null)
      port()?.render()
      return
    }
    const document = provisional
      ? { ...scene, elements: [...scene.elements, { ...provisional, name: ' provisional' }] }
      : scene
    await newest(async () => {
      const { data } = await client
        .POST('/api/takes/{take_id}/flight/{quality}', {
          params: { path: { ...path, quality: at.quality.value } },
          body: { scene: document, element: index!, frame: null },
        })
        .catch(() => ({ data: undefined }))
      flight.value = data ?? null
      port()?.sketch.stream(flight.value)
      port()?.render()
    })
  }

  const openings = shallowRef<Schemas['OpeningReply'][]>([])
  let under: Schemas['OpeningReply'] | null = null
  async function findOpenings() {
    const reply = await client
      .GET('/api/takes/{take_id}/openings', { params: { path, query: { frame: at.frame.value } } })
      .catch(() => null)
    openings.value = reply?.data ?? []
  }

  /** An opening whose middle or rim is under the pointer lights up, and is where a press puts a source. */
  function hovered(spot: Spot | null): Spot | null {
    const view = port()
    if (tool.value !== 'inflow' || !spot || !view) return spot
    const [x, y] = view.onScreen(spot.point)
    const off = (p: number[]) => {
      const [u, v] = view.onScreen(new THREE.Vector3().fromArray(p))
      return Math.hypot(u - x, v - y)
    }
    const near = (o: Schemas['OpeningReply']) => Math.min(off(o.middle), ...o.loop.map((p) => off(p) * 1.6))
    const best = openings.value
      .map((o) => [near(o), o] as const)
      .reduce((a, b) => (b[0] < a[0] ? b : a), [Infinity, null] as readonly [
        number,
        Schemas['OpeningReply'] | null,
      ])
    under = best[0] < NEAR ? best[1] : null
    view.sketch.outlines('openings', under ? [under.loop] : [], '#f3fbf9')
    view.render()
    if (!under) return spot
    return {
      point: new THREE.Vector3().fromArray(under.middle),
      normal: new THREE.Vector3().fromArray(under.normal),
      index: under.element,
    }
  }

  /** What the room about a point would hold; its outline is drawn. */
  async function askRoom(seed: number[], level: number | null, told: (room: Schemas['RoomReply']) => void) {
    await newest(async () => {
      const { data, error } = await client
        .POST('/api/takes/{take_id}/room/{quality}', {
          params: { path: { ...path, quality: at.quality.value } },
          body: { seed: seed as [number, number, number], level, frame: at.frame.value },
        })
        .catch((error: unknown) => ({ data: undefined, error }))
      problems.value = data ? [] : problemsOf(error)
      if (!data) return
      if (tool.value !== 'fill') return
      told(data)
      port()?.sketch.outlines('level', data.contours)
      port()?.retell()
    })
  }

  function sketched(gesture: Gesture) {
    const made = gesture.made()
    if (made?.kind === 'inflow') {
      if (under && gesture instanceof Aim) gesture.radius = under.radius
      void fly(made)
    }
  }

  async function finished(gesture: Gesture) {
    if (gesture instanceof PullWall) {
      await at.keep({ ...structuredClone(at.scene.value!), domain: gesture.domain })
      return
    }
    const used = tool.value
    tool.value = null
    port()?.sketch.outlines('openings', [])
    port()?.sketch.outlines('level', [])
    const made = gesture instanceof FillRoom ? await keepRoom(gesture) : gesture.made()
    if (!made || !used) return
    await at.add(made)
    await fly()
  }

  async function keepRoom(gesture: FillRoom): Promise<SceneDocument | null> {
    const { seed, level } = gesture
    if (!seed || level === null) return null
    const { data, error } = await client
      .POST('/api/takes/{take_id}/room/{quality}/keep', {
        params: { path: { ...path, quality: at.quality.value } },
        body: { seed: seed as [number, number, number], level, frame: at.frame.value },
      })
      .catch((error: unknown) => ({ data: undefined, error }))
    problems.value = data ? [] : problemsOf(error)
    return data
      ? {
          kind: 'fill',
          name: 'Fill',
          shape: { kind: 'mesh', file: data.file },
          pose: { translation: [0, 0, 0] },
        }
      : null
  }

  /** Something was dragged by its handles. */
  async function placed(index: number, from: THREE.Matrix4, to: THREE.Matrix4) {
    const document = structuredClone(at.scene.value!)
    const element = document.elements[index]
    const parent = element.attached
      ? port()?.placeOf(document.elements.findIndex((e: { name: string }) => e.name === element.attached))
      : null
    const inverse = parent?.clone().invert()
    const own = (m: THREE.Matrix4) => (inverse ? inverse.clone().multiply(m) : m)
    element.pose = moved(element.pose ?? {}, own(from), own(to), way.value, shotTime(), recording.value)
    await at.keep(document)
    await fly()
  }

  /** Listen to a viewport. */
  function join(view: Viewport) {
    view.voxel = ground.value.dx
    view.onSay = (lines, x, y) => (said.value = { lines, x, y })
    view.onHover = hovered
    view.onSketch = sketched
    view.onMade = (gesture) => void finished(gesture)
    view.onLeft = () => take(null)
    view.onPlaced = (index, from, to) => void placed(index, from, to)
    view.onPick = (index) => (at.element.value = index)
  }

  function setWay(which: Way) {
    way.value = which
    const handles = port()?.handles
    if (handles) handles.way = which
    port()?.render()
  }
  watch(own, (is) => {
    const handles = port()?.handles
    if (handles) handles.own = is
    port()?.render()
  })
  watch([at.element, at.scene, at.quality], () => {
    const view = port()
    if (view) view.voxel = ground.value.dx
    void fly()
    const index = at.element.value
    port()?.sketch.path(index === null ? [] : (port()?.pathOf(index) ?? []))
    port()?.render()
  })

  /** What is said beside the pointer: the gesture's own words, then the stream's. */
  const beside = computed(() => {
    const f = flight.value
    const lines = [...said.value.lines]
    if (f && lines.length && tool.value === 'inflow') lines.push(...flightWords(f, at.scene.value!.time.last))
    return { ...said.value, lines }
  })

  const toggleOwn = () => (own.value = !own.value)
  const toggleRecording = () => (recording.value = !recording.value)
  return {
    tool,
    take,
    way,
    setWay,
    own,
    toggleOwn,
    recording,
    toggleRecording,
    beside,
    flight,
    problems,
    join,
  }
}
export type Placing = ReturnType<typeof usePlacing>

/** A stream in words: when and where it arrives, how fast, how much. */
export function flightWords(f: Schemas['FlightReply'], last: number): string[] {
  const where = f.leaves ? 'leaves the domain' : f.met ? `meets ${f.met}` : 'flies on'
  return [
    `${where} at frame ${f.frame}${f.frame > last ? ', after the shot' : ''}, ${f.speed.toFixed(2)} m/s`,
    `${+f.litres_per_second.toPrecision(3)} l/s, ${+f.litres.toPrecision(3)} l in all`,
    `${+(f.width * 1000).toPrecision(3)} mm across there, ${f.voxels.toFixed(1)} voxels${f.voxels < 2 ? ': too thin to hold together' : ''}`,
  ]
}
