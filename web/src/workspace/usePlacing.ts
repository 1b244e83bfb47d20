import * as THREE from 'three'
import { computed, ref, shallowRef, watch, type Ref } from 'vue'

import { client, problemsOf, type Said, type Schemas } from '../api/client'
import {
  Aim,
  Drop,
  Raise,
  Ramp,
  type Gesture,
  type Ground,
  type Solid,
  type Spot,
} from '../viewport/gestures'
import type { Way } from '../viewport/handles'
import { Measure } from '../viewport/measure'
import { About, Blow, type Pushing } from '../viewport/pushing'
import type { Viewport } from '../viewport/viewport'
import { PullWall } from '../viewport/walls'
import { PullKey } from '../viewport/wayPoints'
import { FillRoom } from './fillRoom'
import { isCurve, moved, movedAlong } from './poses'
import type { SceneDocument } from './useTake'

export type Tool = 'inflow' | 'fill' | 'drop' | Solid | 'ramp' | 'drain' | Pushing | 'measure'
const SOLIDS: Record<Solid, string> = {
  box: 'Box',
  sphere: 'Ball',
  plane: 'Ground',
  tub: 'Tub',
  tube: 'Pipe',
}
const EVERY = 60 // ms at least between two flights that are asked for
const NEAR = 26 // pixels within which an opening is meant
const SIDEWAYS = 0.1 // cosine up to which an opening still faces the eye
const ALIKE = 0.99 // cosine of two normals that are one face's

interface At {
  scene: Ref<SceneDocument | null>
  quality: Ref<'draft' | 'proof' | 'final'>
  frame: Ref<number>
  element: Ref<number | null>
  picked: Ref<number[]>
  pick: (index: number | null, more: boolean) => void
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
  const flight = shallowRef<Schemas['Flight'] | null>(null)
  const filling = shallowRef<Schemas['Filling'] | null>(null)
  const pushes = shallowRef<Schemas['Pushes'] | null>(null)
  /** m, up to which what is picked fills; nothing for where it runs over */
  const level = ref<number | null>(null)
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
    port()?.sketch.measured([])
    port()?.ring(null)
    port()?.use(next && gestureOf(next))
    if (!next) void tell()
    if (next === 'inflow') void findOpenings()
  }

  function gestureOf(which: Tool): Gesture {
    if (which === 'drop') return new Drop(ground.value)
    if (which === 'inflow') return new Aim(ground.value)
    if (which === 'ramp') return new Ramp(ground.value)
    if (which === 'drain') return new Raise(ground.value, 'box', 'drain', 'Drain')
    if (which === 'fill') return new FillRoom(askRoom, ground.value)
    if (which === 'wind') return new Blow()
    if (which === 'vortex' || which === 'attraction') return new About(ground.value, which)
    if (which === 'measure') return new Measure((points) => port()?.sketch.measured(points), litresOf)
    return new Raise(ground.value, which, 'collider', SOLIDS[which])
  }

  function litresOf(index: number): string {
    const litres = (port()?.volumeOf(index) ?? 0) * 1000
    const { name } = at.scene.value!.elements[index] as { name: string }
    return litres > 1e-6 ? `${name}: ${+litres.toPrecision(4)} l` : ''
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

  /** What is picked, or what is being put in, does: where its stream flies and what it fills, or how it pushes. */
  async function tell(provisional?: SceneDocument) {
    const scene = at.scene.value
    const index = provisional ? scene?.elements.length : at.element.value
    const meant = provisional ?? (index === null ? null : scene?.elements[index!])
    const view = port()
    if (meant?.kind !== 'inflow') {
      flight.value = filling.value = null
      view?.sketch.stream(null)
      view?.ring(null)
    }
    if (meant?.kind !== 'force') {
      pushes.value = null
      view?.sketch.pushes([])
      view?.sketch.zone(null, 0, null)
    }
    view?.render()
    if (!scene || (meant?.kind !== 'inflow' && meant?.kind !== 'force')) return
    const document = provisional
      ? { ...scene, elements: [...scene.elements, { ...provisional, name: ' provisional' }] }
      : scene
    const params = { path: { ...path, quality: at.quality.value } }
    const body = { scene: document, element: index!, frame: null }
    await newest(async () => {
      if (meant.kind === 'force') await push(meant, params, { ...body, frame: at.frame.value }, provisional)
      else await fly(params, body, !provisional)
    })
  }

  type Params = { path: { take_id: number; quality: string } }
  interface Body {
    scene: SceneDocument
    element: number
    frame: number | null
  }

  async function fly(params: Params, body: Body, whole: boolean) {
    const { data } = await client
      .POST('/api/takes/{take_id}/flight/{quality}', { params, body })
      .catch(() => ({ data: undefined }))
    flight.value = data ?? null
    port()?.sketch.stream(flight.value)
    port()?.render()
    if (!whole || !data?.met) {
      filling.value = null
      return
    }
    const filled = await client
      .POST('/api/takes/{take_id}/filling/{quality}', { params, body: { ...body, level: level.value } })
      .catch(() => null)
    filling.value = filled?.data ?? null
    port()?.ring((filling.value?.leak as [number, number, number] | null) ?? null)
  }

  async function push(force: SceneDocument, params: Params, body: Body, provisional?: SceneDocument) {
    const { data } = await client
      .POST('/api/takes/{take_id}/pushes/{quality}', { params, body })
      .catch(() => ({ data: undefined }))
    pushes.value = data ?? null
    const view = port()
    view?.sketch.pushes(data?.lines ?? [])
    const place = provisional ? null : view?.placeOf(body.element)
    view?.sketch.zone(force.zone ?? null, force.softness ?? 0.1, place ?? null)
    view?.render()
  }

  /** Give one of the numbers of the stream that is picked; the others follow. */
  async function solve(given: 'speed' | 'rate' | 'litres' | 'full', value: number) {
    const index = at.element.value
    if (index === null || !at.scene.value) return
    const { data, error } = await client
      .POST('/api/takes/{take_id}/filling/{quality}/solve', {
        params: { path: { ...path, quality: at.quality.value } },
        body: { scene: at.scene.value, element: index, frame: null, given, value, level: level.value },
      })
      .catch((error: unknown) => ({ data: undefined, error }))
    problems.value = data ? [] : problemsOf(error)
    if (!data) return
    // what else was edited while this was asked for stays
    const next = structuredClone(at.scene.value)
    for (const name of ['velocity', 'flow', 'total']) next.elements[index][name] = data.element[name]
    await at.keep(next)
  }

  /** Fill to a level (m above the vessel's lowest point) instead of to where it runs over. */
  function fillTo(height: number | null) {
    const f = filling.value
    level.value = height === null || !f ? null : f.level - f.height + height
    void tell()
  }

  /** Stop the inflow when what it fills, as it pours now, is full. */
  async function untilFull() {
    const index = at.element.value
    if (index === null || !at.scene.value) return
    const { data } = await client
      .POST('/api/takes/{take_id}/filling/{quality}', {
        params: { path: { ...path, quality: at.quality.value } },
        body: { scene: at.scene.value, element: index, frame: null, level: level.value },
      })
      .catch(() => ({ data: undefined }))
    if (data?.stops == null) return
    const next = structuredClone(at.scene.value)
    next.elements[index].end = +data.stops.toFixed(4)
    await at.keep(next)
  }

  const openings = shallowRef<Schemas['Opening'][]>([])
  let under: Schemas['Opening'] | null = null
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
    // liquid that is inside of a shape pours into it
    const on = spot.index === null ? null : at.scene.value?.elements[spot.index]
    if (on?.side === 'inside') spot = { ...spot, normal: spot.normal.clone().negate() }
    const [x, y] = view.onScreen(spot.point)
    const off = (p: number[]) => {
      const [u, v] = view.onScreen(new THREE.Vector3().fromArray(p))
      return Math.hypot(u - x, v - y)
    }
    const near = (o: Schemas['Opening']) => Math.min(off(o.middle), ...o.loop.map((p) => off(p) * 1.6))
    // those that look away are behind what is seen; the face that is pressed is meant before any rim beside it
    const eye = new THREE.Vector3().fromArray(view.standing().eye)
    const seen = openings.value.filter((o) => {
      const way = new THREE.Vector3().fromArray(o.middle).sub(eye).normalize()
      return way.dot(new THREE.Vector3().fromArray(o.normal)) < SIDEWAYS
    })
    const pressed = (o: Schemas['Opening']) =>
      o.element === spot.index &&
      new THREE.Vector3().fromArray(o.normal).dot(spot.normal) > ALIKE &&
      Math.abs(spot.point.clone().sub(new THREE.Vector3().fromArray(o.middle)).dot(spot.normal)) <
        0.02 * o.radius
    const best = seen
      .map((o) => [pressed(o) ? 0 : near(o), o] as const)
      .reduce((a, b) => (b[0] < a[0] ? b : a), [Infinity, null] as readonly [
        number,
        Schemas['Opening'] | null,
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
  async function askRoom(seed: number[], level: number | null, told: (room: Schemas['Room']) => void) {
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
      port()?.ring((data.leak as [number, number, number] | null) ?? null)
      port()?.retell()
    })
  }

  function sketched(gesture: Gesture) {
    const made = gesture.made()
    if (made?.kind === 'inflow') {
      if (under && gesture instanceof Aim) gesture.takes(under)
      void tell(made)
    }
    if (made?.kind === 'force') void tell(made)
  }

  async function finished(gesture: Gesture) {
    if (gesture instanceof PullWall) {
      await at.keep({ ...structuredClone(at.scene.value!), domain: gesture.domain })
      return
    }
    if (gesture instanceof PullKey) {
      await pulled(gesture)
      return
    }
    const used = tool.value
    tool.value = null
    port()?.sketch.outlines('openings', [])
    port()?.sketch.outlines('level', [])
    const made = gesture instanceof FillRoom ? await keepRoom(gesture) : gesture.made()
    if (!made || !used) return
    await at.add(made)
    await tell()
  }

  /** A key's point was pulled: its value goes along, in what its element is attached to. */
  async function pulled({ element: index, key, to, pulled: is }: PullKey) {
    port()?.sketch.measured([])
    port()?.render()
    if (!is) return
    const document = structuredClone(at.scene.value!)
    const element = document.elements[index]
    const parent = document.elements.findIndex((e: { name: string }) => e.name === element.attached)
    const within = parent < 0 ? null : port()?.placeOf(parent, key.frame - document.time.first)
    const into = within ? within.clone().invert() : new THREE.Matrix4()
    const by = to.clone().applyMatrix4(into).sub(key.at.clone().applyMatrix4(into))
    for (const one of element.pose.translation.keys as { time: number; value: number[] }[])
      if (Math.abs(one.time - key.time) < 1e-6)
        one.value = one.value.map((v, i) => +(v + by.getComponent(i)).toFixed(5))
    await at.keep(document)
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

  /** Something was dragged by its handles; what is picked with it goes along. */
  async function placed(index: number, from: THREE.Matrix4, to: THREE.Matrix4) {
    const document = structuredClone(at.scene.value!)
    const by = to.clone().multiply(from.clone().invert())
    const all = at.picked.value.includes(index) ? at.picked.value : [index]
    const carried = (i: number): boolean => {
      // what is attached to something that goes along goes with it already
      const parent = document.elements.findIndex(
        (e: SceneDocument) => e.name === document.elements[i].attached,
      )
      return parent >= 0 && (all.includes(parent) || carried(parent))
    }
    for (const i of all) {
      const element = document.elements[i]
      if (i !== index && (element.locked || carried(i))) continue
      const parent = element.attached
        ? port()?.placeOf(document.elements.findIndex((e: { name: string }) => e.name === element.attached))
        : null
      const inverse = parent?.clone().invert()
      const own = (m: THREE.Matrix4) => (inverse ? inverse.clone().multiply(m) : m)
      const was = i === index ? from : port()?.placeBefore(i)
      if (!was) continue
      const now = i === index ? to : by.clone().multiply(was)
      const change = i === index ? moved : movedAlong
      element.pose = change(element.pose ?? {}, own(was), own(now), way.value, shotTime(), recording.value)
    }
    await at.keep(document)
    await tell()
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
    view.onPick = at.pick
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
    void tell()
    drawWay()
  })
  watch(at.element, () => (level.value = null), { flush: 'sync' })

  /** The way of what is picked, and its keys. */
  function drawWay() {
    const index = at.element.value
    const value = index === null ? null : at.scene.value?.elements[index]?.pose?.translation
    const times = isCurve(value) ? value.keys.map((k) => k.time) : []
    port()?.showWay(index, times, at.scene.value?.time.fps ?? 24)
  }

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
    filling,
    pushes,
    solve,
    fillTo,
    untilFull,
    drawWay,
    problems,
    join,
  }
}
export type Placing = ReturnType<typeof usePlacing>

/** A stream in words: when and where it arrives, how fast, how much. */
export function flightWords(f: Schemas['Flight'], last: number): string[] {
  const where = f.leaves ? 'leaves the domain' : f.met ? `meets ${f.met}` : 'flies on'
  return [
    `${where} at frame ${f.frame}${f.frame > last ? ', after the shot' : ''}, ${f.speed.toFixed(2)} m/s`,
    `${+f.litres_per_second.toPrecision(3)} l/s, ${+f.litres.toPrecision(3)} l in all`,
    `${+(f.width * 1000).toPrecision(3)} mm across there, ${f.voxels.toFixed(1)} voxels${f.voxels < 2 ? ': too thin to hold together' : ''}`,
  ]
}
