import * as THREE from 'three'

import type { Gesture } from './gestures'
import { alongLine } from './gestures'
import { empty } from './meshes'

/** The domain as a scene has it. */
export interface Domain {
  low: number[]
  size: number[]
  walls?: Record<string, string>
}
const AXES = ['x', 'y', 'z'] as const
const ENDS = ['min', 'max'] as const
/** How a wall is drawn: what liquid meets is a sheet, what it leaves by is not. */
const SHEET: Record<string, number> = { closed: 0.16, open: 0.02, periodic: 0.07 }
const KIND_COLOURS: Record<string, string> = { closed: '#c3ced1', open: '#57b894', periodic: '#8f7fb0' }
const NEXT: Record<string, string> = { closed: 'open', open: 'closed', periodic: 'closed' }

/** The domain's six walls: each a sheet that shows how it acts, and a grip that is dragged, or pressed to change it. */
export class Walls {
  readonly group = new THREE.Group()
  private grips: THREE.Mesh[] = []
  private domain: Domain | null = null

  constructor() {
    this.group.visible = false
  }

  set(domain: Domain) {
    this.domain = structuredClone(domain)
    empty(this.group)
    this.grips = []
    const reach = Math.max(...domain.size)
    AXES.forEach((axis, a) =>
      ENDS.forEach((end, e) => {
        const kind = domain.walls?.[`${axis}_${end}`] ?? 'closed'
        const [b, c] = [(a + 1) % 3, (a + 2) % 3]
        const sheet = new THREE.Mesh(
          new THREE.PlaneGeometry(domain.size[b], domain.size[c]),
          new THREE.MeshBasicMaterial({
            color: KIND_COLOURS[kind] ?? KIND_COLOURS.closed,
            transparent: true,
            opacity: SHEET[kind] ?? 0.1,
            side: THREE.DoubleSide,
            depthWrite: false,
          }),
        )
        const turn = new THREE.Matrix4().makeBasis(unit(b), unit(c), unit(a))
        sheet.quaternion.setFromRotationMatrix(turn)
        sheet.position.copy(this.middle(a, e))
        const grip = new THREE.Mesh(
          new THREE.OctahedronGeometry(reach * 0.022),
          new THREE.MeshBasicMaterial({ color: KIND_COLOURS[kind], depthTest: false, transparent: true }),
        )
        grip.renderOrder = 6
        grip.position.copy(this.middle(a, e))
        grip.userData = { axis: a, end: e }
        this.grips.push(grip)
        this.group.add(sheet, grip)
      }),
    )
  }

  private middle(axis: number, end: number): THREE.Vector3 {
    const { low, size } = this.domain!
    const at = new THREE.Vector3(...low.map((l, i) => l + size[i] / 2))
    at.setComponent(axis, low[axis] + end * size[axis])
    return at
  }

  /** The drag of the grip under the pointer; nothing if there is none. */
  grab(ray: THREE.Raycaster, dx: number): PullWall | null {
    if (!this.group.visible || !this.domain) return null
    this.group.updateMatrixWorld(true)
    const found = ray.intersectObjects(this.grips, false)[0]
    if (!found) return null
    const { axis, end } = found.object.userData as { axis: number; end: number }
    return new PullWall(this.domain, axis, end, dx, this.middle(axis, end))
  }
}

/** A wall of the domain that is pulled, or pressed without a pull: then it becomes the other kind. */
export class PullWall implements Gesture {
  domain: Domain
  private by = 0
  pulled = false

  constructor(
    private before: Domain,
    private axis: number,
    private end: number,
    private dx: number,
    private from: THREE.Vector3,
  ) {
    this.domain = structuredClone(before)
  }
  press(): 'goes on' {
    return 'goes on'
  }
  drag(ray: THREE.Ray) {
    this.typed(alongLine(ray, this.from, unit(this.axis)) * (this.end ? 1 : -1))
  }
  /** Outwards by so many metres, in whole voxels. */
  typed(value: number) {
    const { low, size } = this.before
    const least = 4 * this.dx
    const length = Math.max(Math.round((size[this.axis] + value) / this.dx) * this.dx, least)
    this.by = length - size[this.axis]
    this.pulled ||= Math.abs(this.by) > 1e-9
    this.domain.size[this.axis] = +length.toFixed(6)
    this.domain.low[this.axis] = +(this.end ? low[this.axis] : low[this.axis] - this.by).toFixed(6)
  }
  release(): 'done' {
    if (!this.pulled) {
      const name = `${AXES[this.axis]}_${ENDS[this.end]}`
      const is = this.before.walls?.[name] ?? 'closed'
      this.domain.walls = { ...this.before.walls, [name]: NEXT[is] ?? 'closed' }
    }
    return 'done'
  }
  made() {
    return null
  }
  says(): string[] {
    const { size } = this.domain
    const voxels = size.map((s) => Math.round(s / this.dx))
    return [
      size.map((s) => `${+s.toPrecision(3)}`).join(' × ') + ' m',
      `${voxels.join(' × ')} voxels, ${Math.round(voxels.reduce((a, b) => a * b) / 1000)} k`,
    ]
  }
}

const unit = (axis: number) => new THREE.Vector3().setComponent(axis, 1)
