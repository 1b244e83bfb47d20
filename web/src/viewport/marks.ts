import * as THREE from 'three'

type Triple = [number, number, number]

/** What the outlines of cuts and joined shapes are drawn from. */
export interface Marked {
  domain: { low: number[]; size: number[] }
  surface?: {
    cuts?: {
      by?: string
      centre?: Triple
      size?: Triple
      normal?: Triple
      height?: number
      margin?: number
    }[]
    joins?: {
      shape?: { kind?: string; size?: Triple; radius?: number; height?: number }
      pose?: { translation?: unknown; rotation?: unknown; scale?: unknown }
    }[]
  }
}

/** Outlines of where the surface is cut, and of simple shapes that are joined to it and stand still. */
export function marks({ domain, surface }: Marked): THREE.Object3D[] {
  const size = new THREE.Vector3().fromArray(domain.size)
  const middle = new THREE.Vector3().fromArray(domain.low).addScaledVector(size, 0.5)
  const cuts = (surface?.cuts ?? []).map((cut) => {
    if (cut.by === 'height' || cut.by === 'plane') {
      const reach = cut.by === 'plane' ? size.length() : Math.max(size.x, size.z) * 1.1
      const sheet = outline(new THREE.PlaneGeometry(reach, reach), '#d7a54a')
      const up =
        cut.by === 'plane' ? new THREE.Vector3(...(cut.normal ?? [0, 1, 0])) : new THREE.Vector3(0, 1, 0)
      sheet.quaternion.setFromUnitVectors(new THREE.Vector3(0, 0, 1), up.normalize())
      if (cut.by === 'plane') sheet.position.fromArray(cut.centre ?? [0, 0, 0])
      else sheet.position.set(middle.x, cut.height ?? 0, middle.z)
      return sheet
    }
    const inner = cut.by === 'domain'
    const edge = inner ? size.clone().subScalar(2 * (cut.margin ?? 0)) : vector(cut.size, 1)
    const box = outline(new THREE.BoxGeometry(...edge.toArray()), '#d7a54a')
    box.position.copy(inner ? middle : vector(cut.centre, 0))
    return box
  })
  const joins = (surface?.joins ?? []).flatMap(({ shape, pose }) => {
    const at = pose?.translation ?? [0, 0, 0]
    const turn = pose?.rotation ?? [0, 0, 0]
    const times = pose?.scale ?? 1
    if (!Array.isArray(at) || !Array.isArray(turn) || typeof times !== 'number') return [] // it moves
    const kind = shape?.kind ?? 'box'
    if (kind !== 'box' && kind !== 'sphere') return []
    const made = outline(
      kind === 'box'
        ? new THREE.BoxGeometry(...vector(shape?.size, 0.2).toArray())
        : new THREE.SphereGeometry(shape?.radius ?? 0.1, 12, 8),
      '#57b894',
    )
    made.position.fromArray(at)
    // about the fixed axes, X first
    const [x, y, z] = turn.map((degrees: number) => THREE.MathUtils.degToRad(degrees))
    made.setRotationFromEuler(new THREE.Euler(x, y, z, 'ZYX'))
    made.scale.setScalar(times)
    return [made]
  })
  return [...cuts, ...joins]
}

const vector = (value: Triple | undefined, otherwise: number) =>
  new THREE.Vector3().fromArray(value ?? [otherwise, otherwise, otherwise])

function outline(geometry: THREE.BufferGeometry, color: string): THREE.LineSegments {
  return new THREE.LineSegments(
    new THREE.EdgesGeometry(geometry),
    new THREE.LineBasicMaterial({ color, transparent: true, opacity: 0.9, depthTest: false }),
  )
}
