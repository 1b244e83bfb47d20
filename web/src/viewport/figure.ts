import * as THREE from 'three'

/** A standing figure of 1.75 m, feet at its origin: limbs of turned shapes, for scale alone. */
export function figure(): THREE.Group {
  const group = new THREE.Group()
  const skin = new THREE.MeshStandardMaterial({
    color: '#8d9a9e',
    roughness: 0.9,
    transparent: true,
    opacity: 0.55,
  })
  const limb = (from: number[], to: number[], thick: number, thin: number) => {
    const a = new THREE.Vector3(...from)
    const way = new THREE.Vector3(...to).sub(a)
    const made = new THREE.Mesh(new THREE.CylinderGeometry(thin, thick, way.length(), 14), skin)
    made.position.copy(a).addScaledVector(way, 0.5)
    made.quaternion.setFromUnitVectors(new THREE.Vector3(0, 1, 0), way.normalize())
    group.add(made)
  }
  const head = new THREE.Mesh(new THREE.SphereGeometry(0.1, 20, 14), skin)
  head.scale.set(0.85, 1.15, 0.95)
  head.position.y = 1.75 - 0.115
  group.add(head)
  limb([0, 1.42, 0], [0, 1.56, 0], 0.055, 0.05)
  limb([0, 0.92, 0], [0, 1.44, 0], 0.15, 0.19)
  for (const side of [-1, 1]) {
    limb([side * 0.09, 0, 0], [side * 0.09, 0.5, 0], 0.045, 0.06)
    limb([side * 0.09, 0.48, 0], [side * 0.08, 0.96, 0], 0.06, 0.085)
    limb([side * 0.28, 0.78, 0.02], [side * 0.25, 1.12, 0], 0.035, 0.042)
    limb([side * 0.25, 1.1, 0], [side * 0.2, 1.42, 0], 0.042, 0.055)
  }
  return group
}
