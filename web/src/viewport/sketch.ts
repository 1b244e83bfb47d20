import * as THREE from 'three'

import { empty } from './meshes'

/* eslint-disable @typescript-eslint/no-explicit-any -- a scene is described by its schema, not by types */
type Element = Record<string, any>

/** A stream as it will fly. */
export interface Stream {
  path: number[][]
  times: number[]
  met: string
  leaves: boolean
  voxels: number
}

const LIQUID = '#57b894'
const SOLID = '#c3ced1'
const WRONG = '#ee7563'
const PUSH = '#d7a54a'

/** What is drawn while a gesture is made, and of what is picked: shapes to be, streams, levels, paths. */
export class Sketch {
  readonly group = new THREE.Group()
  private shape = new THREE.Group()
  private lines = new Map<string, THREE.Group>()

  constructor() {
    this.group.add(this.shape)
  }

  /** An element that is not there yet. */
  element(element: Element | null) {
    empty(this.shape)
    if (element?.effect?.kind === 'wind') this.blowing(element)
    const drawn = element?.shape ?? element?.zone
    const geometry = drawn && geometryOf(drawn)
    if (!geometry) return
    const colour = element!.kind === 'collider' ? SOLID : element!.kind === 'force' ? PUSH : LIQUID
    const body = new THREE.Mesh(
      geometry,
      new THREE.MeshBasicMaterial({ color: colour, transparent: true, opacity: 0.2, depthWrite: false }),
    )
    const edges = new THREE.LineSegments(
      new THREE.EdgesGeometry(geometry, 24),
      new THREE.LineBasicMaterial({ color: colour, depthTest: false }),
    )
    const { translation = [0, 0, 0], rotation = [0, 0, 0] } = element!.pose
    this.shape.position.fromArray(translation)
    const [x, y, z] = rotation.map((d: number) => THREE.MathUtils.degToRad(d))
    this.shape.setRotationFromEuler(new THREE.Euler(x, y, z, 'ZYX'))
    this.shape.add(body, edges)
    if (element!.kind === 'inflow') this.shape.add(arrow(element!.velocity, this.shape.quaternion))
  }

  private blowing(element: Element) {
    this.shape.position.fromArray(element.pose.translation)
    this.shape.quaternion.identity()
    this.shape.add(arrow(element.effect.velocity, this.shape.quaternion))
  }

  private layer(name: string): THREE.Group {
    let found = this.lines.get(name)
    if (!found) {
      found = new THREE.Group()
      this.lines.set(name, found)
      this.group.add(found)
    }
    empty(found)
    return found
  }

  /** How a stream will fly, with a tick every tenth of a second, to what it first meets. */
  stream(flight: Stream | null) {
    const layer = this.layer('stream')
    if (!flight || flight.path.length < 2) return
    const points = flight.path.map((p) => new THREE.Vector3().fromArray(p))
    layer.add(line(points, flight.leaves || flight.voxels < 2 ? WRONG : LIQUID))
    const end = points.at(-1)!
    const size = Math.max(end.distanceTo(points[0]) * 0.03, 1e-3)
    const ticks: THREE.Vector3[] = []
    for (let n = 1; n * 0.1 < flight.times.at(-1)!; n++) {
      const i = flight.times.findIndex((t) => t >= n * 0.1)
      const way = points[i].clone().sub(points[i - 1] ?? points[i])
      const side = new THREE.Vector3(-way.z, 0, way.x)
      if (side.lengthSq() < 1e-12) side.set(1, 0, 0)
      side.setLength(size * 0.4)
      ticks.push(points[i].clone().add(side), points[i].clone().sub(side))
    }
    if (ticks.length) layer.add(segments(ticks, LIQUID))
    const ring = new THREE.Mesh(
      new THREE.RingGeometry(size * 0.7, size, 32).rotateX(-Math.PI / 2),
      new THREE.MeshBasicMaterial({
        color: flight.leaves ? WRONG : LIQUID,
        side: THREE.DoubleSide,
        depthTest: false,
        transparent: true,
      }),
    )
    ring.position.copy(end)
    layer.add(ring)
  }

  /** A ring about a point, seen through everything. */
  ring(point: THREE.Vector3 | null, radius: number) {
    const layer = this.layer('ring')
    if (!point) return
    for (const turn of [0, Math.PI / 2]) {
      const ring = new THREE.Mesh(
        new THREE.RingGeometry(radius * 0.86, radius, 48).rotateY(turn),
        new THREE.MeshBasicMaterial({
          color: '#d7a54a',
          side: THREE.DoubleSide,
          depthTest: false,
          transparent: true,
        }),
      )
      ring.position.copy(point)
      layer.add(ring)
    }
  }

  /** What something that is dragged lies on: a ring in its face, and a line out of it. */
  snapped(on: { point: THREE.Vector3; normal: THREE.Vector3; size: number } | null) {
    const layer = this.layer('snapped')
    if (!on) return
    const ring = Array.from({ length: 33 }, (_, n) => {
      const turn = (n / 16) * Math.PI
      return new THREE.Vector3(Math.cos(turn) * on.size, 0, Math.sin(turn) * on.size)
    })
    const mark = new THREE.Group()
    mark.add(
      line(ring, '#f3fbf9'),
      line([new THREE.Vector3(), new THREE.Vector3(0, on.size * 1.6, 0)], '#f3fbf9'),
    )
    mark.position.copy(on.point)
    mark.quaternion.setFromUnitVectors(new THREE.Vector3(0, 1, 0), on.normal)
    layer.add(mark)
  }

  /** Lines along what a force does, ending in a point where it leads to. */
  pushes(lines: number[][][]) {
    const layer = this.layer('pushes')
    for (const one of lines)
      layer.add(
        line(
          one.map((p) => new THREE.Vector3().fromArray(p)),
          '#d7a54a',
          0.75,
        ),
      )
    if (!lines.length) return
    const ends = lines.map((one) => new THREE.Vector3().fromArray(one.at(-1)!))
    layer.add(dots(ends, 4.5))
  }

  /** The zone of a force in its place, and within it where its soft edge ends. */
  zone(zone: Element | null, softness: number, matrix: THREE.Matrix4 | null) {
    const layer = this.layer('zone')
    if (!zone || !matrix || zone.kind === 'everywhere') return
    const scale = Math.cbrt(Math.abs(matrix.determinant())) || 1
    const soft = softness / scale
    const inner: Element = { ...zone }
    if (zone.kind === 'sphere') inner.radius -= soft
    else inner.size = (zone.size as number[]).map((s) => s - 2 * soft)
    const there = Math.min(...(zone.kind === 'sphere' ? [inner.radius] : inner.size)) > 0
    for (const [shape, opacity] of [[zone, 0.9], ...(there && soft > 0 ? [[inner, 0.35]] : [])] as [
      Element,
      number,
    ][]) {
      const geometry = geometryOf(shape)
      if (!geometry) continue
      const edges = new THREE.LineSegments(
        new THREE.EdgesGeometry(geometry, shape.kind === 'sphere' ? 1 : 24),
        new THREE.LineBasicMaterial({ color: '#d7a54a', transparent: true, opacity: opacity * 0.5 }),
      )
      edges.applyMatrix4(matrix)
      layer.add(edges)
    }
  }

  /** Points that are measured between, and the lines from each to the next. */
  measured(points: THREE.Vector3[]) {
    const layer = this.layer('measured')
    if (!points.length) return
    layer.add(dots(points, 7, '#f3fbf9'))
    if (points.length > 1) layer.add(line(points, '#f3fbf9'))
  }

  /** Outlines of a level, or of an opening. */
  outlines(name: string, loops: number[][][], colour = '#6fb7d8') {
    const layer = this.layer(name)
    for (const loop of loops) {
      const points = loop.map((p) => new THREE.Vector3().fromArray(p))
      if (points.length > 1) layer.add(line([...points, points[0]], colour))
    }
  }

  /** The way of something that moves, with a dot a frame, and its keys. */
  path(points: THREE.Vector3[], keys: THREE.Vector3[] = []) {
    const layer = this.layer('path')
    if (points.length < 2) return
    layer.add(line(points, '#d7a54a', 0.8))
    layer.add(dots(points, 3.5))
    if (keys.length) layer.add(dots(keys, 9, '#f3fbf9'))
  }

  clear() {
    this.element(null)
    for (const name of this.lines.keys()) this.layer(name)
  }
}

function dots(points: THREE.Vector3[], size: number, color = '#d7a54a'): THREE.Points {
  return new THREE.Points(
    new THREE.BufferGeometry().setFromPoints(points),
    new THREE.PointsMaterial({ color, size, sizeAttenuation: false, depthTest: false, transparent: true }),
  )
}

function line(points: THREE.Vector3[], color: string, opacity = 1): THREE.Line {
  return new THREE.Line(
    new THREE.BufferGeometry().setFromPoints(points),
    new THREE.LineBasicMaterial({ color, depthTest: false, transparent: true, opacity }),
  )
}

function segments(points: THREE.Vector3[], color: string): THREE.LineSegments {
  return new THREE.LineSegments(
    new THREE.BufferGeometry().setFromPoints(points),
    new THREE.LineBasicMaterial({ color, depthTest: false, transparent: true }),
  )
}

/** The speed of a stream: as long as what it goes in a tenth of a second. */
function arrow(velocity: number[], turned: THREE.Quaternion): THREE.Object3D {
  const way = new THREE.Vector3().fromArray(velocity).applyQuaternion(turned.clone().invert())
  return line([new THREE.Vector3(), way.multiplyScalar(0.1)], '#f3fbf9')
}

function geometryOf(shape: Element): THREE.BufferGeometry | null {
  const { size, radius = 0, height = 0 } = shape
  switch (shape.kind) {
    case 'box':
      return new THREE.BoxGeometry(...(size as [number, number, number]))
    case 'sphere':
      return new THREE.SphereGeometry(radius, 24, 14)
    case 'disc':
      return new THREE.CircleGeometry(radius, 40).rotateX(-Math.PI / 2)
    case 'slot':
      return new THREE.PlaneGeometry(shape.width, shape.depth).rotateX(-Math.PI / 2)
    case 'plane':
      return new THREE.CircleGeometry(1, 40).rotateX(-Math.PI / 2)
    case 'tub':
    case 'tube':
      return new THREE.CylinderGeometry(radius, radius, height, 40, 1, true).translate(0, height / 2, 0)
  }
  return null
}
