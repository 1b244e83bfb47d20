import * as THREE from 'three'

/** The domain as dashed edges, with a ruler along its front in metres. */
export function ruler(low: number[], size: number[]): THREE.Object3D[] {
  const box = new THREE.BoxGeometry(size[0], size[1], size[2])
  const edges = new THREE.LineSegments(
    new THREE.EdgesGeometry(box),
    new THREE.LineDashedMaterial({
      color: '#6d7d82',
      dashSize: 0.03,
      gapSize: 0.03,
      transparent: true,
      opacity: 0.8,
    }),
  )
  edges.position.set(low[0] + size[0] / 2, low[1] + size[1] / 2, low[2] + size[2] / 2)
  edges.computeLineDistances()
  const length = nice(size[0] / 3)
  const y = low[1]
  const z = low[2] + size[2]
  const tick = size[0] * 0.012
  const points: THREE.Vector3[] = [new THREE.Vector3(low[0], y, z), new THREE.Vector3(low[0] + length, y, z)]
  for (let i = 0; i <= 4; i++) {
    const x = low[0] + (length * i) / 4
    const h = i % 2 ? tick * 0.6 : tick * 1.4
    points.push(new THREE.Vector3(x, y - h, z), new THREE.Vector3(x, y + h, z))
  }
  const line = new THREE.LineSegments(
    new THREE.BufferGeometry().setFromPoints(points),
    new THREE.LineBasicMaterial({ color: '#d9e1e1', depthTest: false }),
  )
  const text = sprite(length >= 1 ? `${length} m` : `${+(length * 100).toPrecision(3)} cm`)
  text.position.set(low[0] + length / 2, y - tick * 4.5, z)
  text.scale.multiplyScalar(size[0] * 0.11)
  return [edges, line, text]
}

/** 1, 2 or 5 times a power of ten, not above x. */
export function nice(x: number): number {
  const power = 10 ** Math.floor(Math.log10(x))
  const lead = x / power
  return +((lead >= 5 ? 5 : lead >= 2 ? 2 : 1) * power).toPrecision(3)
}

function sprite(text: string): THREE.Sprite {
  const canvas = document.createElement('canvas')
  canvas.width = 256
  canvas.height = 64
  const pen = canvas.getContext('2d')!
  pen.font = '36px "IBM Plex Mono", monospace'
  pen.fillStyle = '#d9e1e1'
  pen.strokeStyle = '#12171a'
  pen.lineWidth = 6
  pen.textAlign = 'center'
  pen.strokeText(text, 128, 44)
  pen.fillText(text, 128, 44)
  const material = new THREE.SpriteMaterial({ map: new THREE.CanvasTexture(canvas), depthTest: false })
  const made = new THREE.Sprite(material)
  made.scale.set(2, 0.5, 1)
  return made
}
