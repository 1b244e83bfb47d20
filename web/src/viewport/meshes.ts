import * as THREE from 'three'

import type { Packed } from './packed'

/** Take everything out of a group and free what the graphics processor holds of it. */
export function empty(group: THREE.Object3D) {
  group.traverse((object) => {
    const drawn = object as Partial<THREE.Mesh>
    drawn.geometry?.dispose()
    for (const material of [drawn.material ?? []].flat()) {
      ;(material as THREE.MeshBasicMaterial).map?.dispose()
      material.dispose()
    }
  })
  group.clear()
}

/** A packed mesh as the graphics processor wants it. */
export function meshGeometry(packed: Packed): THREE.BufferGeometry {
  const geometry = new THREE.BufferGeometry()
  geometry.setAttribute('position', new THREE.BufferAttribute(packed.position, 3, true))
  geometry.setAttribute('normal', new THREE.BufferAttribute(unfold(packed.normal!), 3))
  geometry.setIndex(new THREE.BufferAttribute(packed.index!, 1))
  return geometry
}

/** Octahedral bytes to unit normals, in the mesh's own stretched frame. */
function unfold(bytes: Int8Array): Float32Array {
  const out = new Float32Array((bytes.length / 2) * 3)
  for (let i = 0, o = 0; i < bytes.length; i += 2, o += 3) {
    let x = bytes[i] / 127
    let y = bytes[i + 1] / 127
    const z = 1 - Math.abs(x) - Math.abs(y)
    if (z < 0) {
      const fold = (1 - Math.abs(y)) * (x < 0 ? -1 : 1)
      y = (1 - Math.abs(x)) * (y < 0 ? -1 : 1)
      x = fold
    }
    const length = Math.hypot(x, y, z) || 1
    out[o] = x / length
    out[o + 1] = y / length
    out[o + 2] = z / length
  }
  return out
}

/** Stretch what is packed back to metres. */
export function place(object: THREE.Object3D, packed: Pick<Packed, 'low' | 'span'>) {
  object.position.fromArray(packed.low)
  object.scale.fromArray(packed.span)
  object.userData.span = packed.span
  const mesh = object as THREE.Mesh
  const normal = mesh.geometry.getAttribute('normal') as THREE.BufferAttribute | undefined
  if (!normal) return
  // positions are stretched back to metres by the object's scale, which would bend the normals
  const [sx, sy, sz] = packed.span
  const a = normal.array as Float32Array
  for (let i = 0; i < a.length; i += 3) {
    a[i] *= sx
    a[i + 1] *= sy
    a[i + 2] *= sz
  }
}
