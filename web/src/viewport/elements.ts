import * as THREE from 'three'

import { client, type Schemas } from '../api/client'
import { solidMaterial } from './materials'
import { empty, meshGeometry, place } from './meshes'
import { fetchPacked, type Packed } from './packed'

/** What an element is drawn from. */
export interface Drawn {
  kind: string
  name: string
  side?: string
  shape?: { kind: string }
  effect?: unknown
  zone?: unknown
  hidden?: boolean
  locked?: boolean
}

/** An element as it stands in the scene, and where it is frame by frame. */
interface Shown {
  object: THREE.Object3D
  body: THREE.Mesh
  edges: THREE.LineSegments
  placed: Schemas['PlacedReply']
  kind: string
  plane: boolean
  hidden: boolean
  locked: boolean
  look: string
  index: number
  forms: Map<number, Packed>
}
const MOST_FORMS = 60 // of a mesh that deforms, kept at hand
const CREASE = 24 // degrees from which an edge is drawn

const COLOURS: Record<string, string> = {
  fill: '#6fb7d8',
  inflow: '#57b894',
  collider: '#75838a',
  drain: '#8f7fb0',
  force: '#d7a54a',
}

/** The elements of a scene: solid where they are solid, thin lines where they are not, never out of sight. */
export class Elements {
  readonly group = new THREE.Group()
  private shown: Shown[] = []
  private take = 0
  private first = 1
  private generation = 0
  private at = 0
  private picked: number[] = []
  /** those that alone are seen, if any are */
  private alone: number[] | null = null

  constructor(
    private small: boolean,
    private changed: () => void,
  ) {}

  /** Show the elements of a scene; what looks as before is not asked for again. False if that did not come. */
  async set(take: number, elements: Drawn[], first: number, reach: number): Promise<boolean> {
    const mine = ++this.generation
    this.take = take
    this.first = first
    const path = { take_id: take }
    const { data: poses } = await client
      .GET('/api/takes/{take_id}/poses', { params: { path } })
      .catch(() => ({ data: undefined }))
    if (mine !== this.generation) return true
    if (!poses || poses.length !== elements.length) return false
    const before = [...this.shown]
    const looks = elements.map(({ kind, side, shape, effect, zone }) =>
      JSON.stringify([take, kind, side, shape, effect, zone, shape?.kind === 'plane' ? reach : 0]),
    )
    const made = await Promise.all(
      elements.map(async (element, i) => {
        const known = before.find((s) => s.look === looks[i])
        if (known) before.splice(before.indexOf(known), 1)
        const fresh = known ?? (await this.make(element, i, looks[i], reach, mine))
        const { hidden = false, locked = false } = element
        return fresh && Object.assign(fresh, { index: i, placed: poses[i], hidden, locked })
      }),
    )
    if (mine !== this.generation) {
      for (const one of made) if (one && !this.shown.includes(one)) empty(one.object) // a newer scene came meanwhile
      return true
    }
    before.forEach((old) => empty(old.object))
    this.group.clear()
    this.shown = made.filter((one): one is Shown => !!one)
    this.shown.forEach((one) => this.group.add(one.object))
    this.select(this.picked)
    this.showTime(this.at)
    return true
  }

  private async make(
    element: Drawn,
    index: number,
    look: string,
    reach: number,
    mine: number,
  ): Promise<Shown | null> {
    const plane = element.shape?.kind === 'plane'
    const object = new THREE.Group()
    object.matrixAutoUpdate = false
    const colour = COLOURS[element.kind] ?? COLOURS.collider
    const solid = element.kind === 'collider' && (element.side ?? 'outside') === 'outside'
    let body: THREE.Mesh
    let edges: THREE.LineSegments
    if (plane) {
      body = new THREE.Mesh(
        new THREE.CircleGeometry(reach, 64).rotateX(-Math.PI / 2),
        new THREE.MeshBasicMaterial({
          color: '#2b353a',
          transparent: true,
          opacity: this.small ? 0.5 : 0.35,
          side: THREE.DoubleSide,
          depthWrite: false,
        }),
      )
      edges = new THREE.LineSegments(
        new THREE.EdgesGeometry(new THREE.CircleGeometry(reach, 64).rotateX(-Math.PI / 2)),
        lineMaterial(colour, 0.5),
      )
    } else {
      const mesh = await fetchPacked(`/api/takes/${this.take}/elements/${index}/mesh?${mine}`)
      if (!mesh || !mesh.count) return null
      const geometry = meshGeometry(mesh)
      body = new THREE.Mesh(geometry, solidMaterial(colour, solid ? 1 : 0.12))
      place(body, mesh)
      edges = new THREE.LineSegments(creases(geometry), lineMaterial(colour, solid ? 0 : 0.75))
      place(edges, mesh)
    }
    edges.visible = !solid && !plane
    object.add(body, edges)
    const placed = { matrices: [], shown: [true], deforms: false }
    const kept = { kind: element.kind, plane, look, index, hidden: false, locked: false }
    return { object, body, edges, placed, ...kept, forms: new Map() }
  }

  /** Put moving elements where they are, `n` frames from the first. */
  showTime(n: number) {
    this.at = n
    for (const element of this.shown) {
      const { object, placed } = element
      object.matrix.fromArray(this.matrix(element))
      object.matrixWorldNeedsUpdate = true
      this.appear(element)
      if (placed.deforms) void this.deform(element, n)
    }
  }

  private matrix({ placed }: Shown): number[] {
    return placed.matrices[Math.min(this.at, placed.matrices.length - 1)]
  }

  /** Where an element is now, or so many frames from the first, as a matrix; nothing if it is not drawn. */
  placeOf(index: number, n?: number): THREE.Matrix4 | null {
    const found = this.shown.find((s) => s.index === index)
    if (!found || n === undefined) return found ? found.object.matrix.clone() : null
    const { matrices } = found.placed
    return new THREE.Matrix4().fromArray(matrices[Math.min(n, matrices.length - 1)])
  }

  /** The origin of an element that moves, a point a frame; one point if it is still. */
  pathOf(index: number): THREE.Vector3[] {
    const found = this.shown.find((s) => s.index === index)
    return (found?.placed.matrices ?? []).map((m) => new THREE.Vector3(m[12], m[13], m[14]))
  }

  /** Put an element somewhere else while it is dragged. */
  carry(index: number, matrix: THREE.Matrix4) {
    const found = this.shown.find((s) => s.index === index)
    if (!found) return
    found.object.matrix.copy(matrix)
    found.object.matrixWorldNeedsUpdate = true
  }

  isLocked(index: number): boolean {
    return !!this.shown.find((s) => s.index === index)?.locked
  }

  /** What a ray meets first: of all that is seen and can be picked, or of what is solid alone; but for some. */
  hit(
    ray: THREE.Raycaster,
    solid = false,
    but: number[] = [],
  ): { point: THREE.Vector3; normal: THREE.Vector3; index: number } | null {
    this.group.updateMatrixWorld(true)
    const bodies = this.shown.filter(
      (s) => s.object.visible && (solid ? s.kind === 'collider' : !s.locked) && !but.includes(s.index),
    )
    const found = ray.intersectObjects(
      bodies.map((s) => s.body),
      false,
    )
    // what is thin or open is picked before the ground behind it
    const first = found.find((f) => !bodies.find((s) => s.body === f.object)!.plane) ?? found[0]
    if (!first?.face) return null
    const owner = bodies.find((s) => s.body === first.object)!
    const [a, b, c] = [first.face.a, first.face.b, first.face.c].map((corner) =>
      owner.body.localToWorld(
        new THREE.Vector3().fromBufferAttribute(owner.body.geometry.getAttribute('position'), corner),
      ),
    )
    const normal = b.sub(a).cross(c.sub(a)).normalize()
    if (normal.dot(ray.ray.direction) > 0) normal.negate()
    return { point: first.point, normal, index: owner.index }
  }

  /** Points of elements that others can be put on: middles, and the middles of tops and bottoms; but for some. */
  points(but: number[]): { point: THREE.Vector3; normal: THREE.Vector3; index: number; called: string }[] {
    this.group.updateMatrixWorld(true)
    return this.shown
      .filter((s) => s.object.visible && !s.plane && !but.includes(s.index))
      .flatMap(({ body, index }) => {
        const box = new THREE.Box3().expandByObject(body)
        const middle = box.getCenter(new THREE.Vector3())
        const normal = new THREE.Vector3(0, 1, 0)
        return [
          { point: middle, normal, index, called: 'middle' },
          { point: middle.clone().setY(box.max.y), normal, index, called: 'top' },
          { point: middle.clone().setY(box.min.y), normal, index, called: 'bottom' },
        ]
      })
  }

  private appear(element: Shown) {
    const { shown } = element.placed
    const seen = shown[Math.min(this.at, shown.length - 1)] && !element.hidden
    element.object.visible = seen || this.picked.includes(element.index)
    if (this.alone) element.object.visible = this.alone.includes(element.index)
    if (this.small) element.object.visible &&= element.kind === 'collider'
  }

  /** Hide one, or show all again. */
  withhold(index: number | null) {
    for (const element of this.shown) {
      this.appear(element)
      if (element.index === index) element.object.visible = false
    }
  }

  /** Give an element the form that its mesh has at a frame. */
  private async deform(element: Shown, n: number) {
    const mine = this.generation
    let form = element.forms.get(n)
    if (!form) {
      const frame = this.first + n
      const got = await fetchPacked(
        `/api/takes/${this.take}/elements/${element.index}/mesh?frame=${frame}&${mine}`,
      )
      if (!got || mine !== this.generation) return
      form = got
      if (element.forms.size >= MOST_FORMS) element.forms.delete(element.forms.keys().next().value!)
      element.forms.set(n, form)
    }
    if (n !== this.at) return
    element.body.geometry.dispose()
    element.body.geometry = meshGeometry(form)
    place(element.body, form)
    element.edges.geometry.dispose()
    element.edges.geometry = creases(element.body.geometry)
    place(element.edges, form)
    this.changed()
  }

  /** See some elements alone, or all that are not hidden. */
  isolate(indices: number[] | null) {
    this.alone = indices
    this.shown.forEach((one) => this.appear(one))
  }

  /** The middle (m) and size (m) of the boxes about some elements as they stand now; nothing if none is drawn. */
  about(indices: number[]): { middle: THREE.Vector3; size: number } | null {
    const box = new THREE.Box3()
    for (const one of this.shown)
      if (indices.includes(one.index)) {
        one.object.updateMatrixWorld(true)
        box.expandByObject(one.body, true)
      }
    if (box.isEmpty()) return null
    return { middle: box.getCenter(new THREE.Vector3()), size: box.getSize(new THREE.Vector3()).length() }
  }

  /** Volume (m3) that an element's mesh encloses as it stands now (the sum of signed tetrahedra); 0 if it is open. */
  volumeOf(index: number): number {
    const found = this.shown.find((s) => s.index === index)
    if (!found || found.plane) return 0
    const corners = found.body.geometry.index
    const at = found.body.geometry.getAttribute('position')
    found.object.updateMatrixWorld(true)
    const point = (n: number) =>
      new THREE.Vector3()
        .fromBufferAttribute(at, corners ? corners.getX(n) : n)
        .applyMatrix4(found.body.matrixWorld)
    let six = 0
    for (let n = 0; n < (corners?.count ?? at.count); n += 3)
      six += point(n).dot(point(n + 1).cross(point(n + 2)))
    return Math.abs(six) / 6
  }

  /** Mark elements: their edges are seen through what hides them. */
  select(indices: number[]) {
    this.picked = indices
    for (const element of this.shown) {
      const on = indices.includes(element.index)
      const lines = element.edges.material as THREE.LineBasicMaterial
      const solid = element.body.material as THREE.MeshStandardMaterial
      solid.emissive?.set(on ? '#163f39' : '#000000')
      lines.depthTest = !on
      lines.color.set(on ? '#7fe0cf' : (COLOURS[element.kind] ?? COLOURS.collider))
      lines.opacity = on ? 0.95 : 0.75
      element.edges.visible = on || (!element.plane && solid.opacity < 1)
      element.edges.renderOrder = on ? 5 : 0
      this.appear(element)
    }
  }

  dispose() {
    empty(this.group)
  }
}

const creases = (geometry: THREE.BufferGeometry) => new THREE.EdgesGeometry(geometry, CREASE)

function lineMaterial(color: string, opacity: number): THREE.LineBasicMaterial {
  return new THREE.LineBasicMaterial({ color, transparent: true, opacity })
}
