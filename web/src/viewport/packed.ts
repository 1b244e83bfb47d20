/** A frame or mesh as the server packs it: a JSON header and plain arrays made for the GPU. */
export interface Packed {
  kind: 'points' | 'mesh' | 'sea'
  count: number
  total: number
  low: [number, number, number]
  span: [number, number, number]
  /** what it is coloured by, of what it could be; least and top are where the shades begin and end, near and far
   * the range proposed for the ramp */
  by?: string
  unit?: string
  choices?: string[]
  least?: number
  top?: number
  near?: number
  far?: number
  histogram?: number[]
  /** what shades from 0 on stand for, where they are no amounts */
  names?: string[]
  /** kinds of points by name, how many there are of each, and the radius (m) of the smallest */
  forms?: string[]
  counts?: number[]
  least_radius?: number
  /** how many there are of each layer of theirs */
  layers?: number[]
  form?: Uint8Array
  layer?: Uint8Array
  size?: Uint8Array
  spacing?: number
  /** how much light each takes in its middle, of points that stand for what is too fine to be told apart */
  soft?: number
  /** of a frame that is judged */
  facts?: Record<string, number>
  /** particles that it does not show */
  left_out?: Pick<Packed, 'count' | 'low' | 'span' | 'spacing'>
  left_out_position?: Uint16Array
  /** of a solver's solid, in millimetres */
  voxel?: number
  largest?: number
  mean?: number
  /** of a sea: its patches; what moves their points and how they are shaded are arrays of their own */
  patches?: { size: number; count: number; low: number[]; span: number[] }[]
  /** of its wakes: their window, from its first point on, and of each body its place and velocity */
  wake?: {
    size: number
    count: number
    low: number[]
    span: number[]
    from: [number, number]
    bodies: number[][]
  }
  position: Uint16Array
  shade?: Uint8Array
  colour?: Uint8Array
  /** of a surface that is coloured by nothing: its liquid's colour, and the share of light that it mirrors */
  body?: Uint8Array
  normal?: Int8Array
  index?: Uint32Array
  bytes: number
}

const TYPES = { u2: Uint16Array, u1: Uint8Array, i1: Int8Array, u4: Uint32Array } as const

/** Read the layout that basin/stages/view.py describes. */
export function unpack(buffer: ArrayBuffer): Packed {
  const bytes = new Uint8Array(buffer)
  if (String.fromCharCode(...bytes.subarray(0, 4)) !== 'ZBV1') throw new Error('not a packed frame')
  const length = new DataView(buffer).getUint32(4, true)
  const header = JSON.parse(new TextDecoder().decode(bytes.subarray(8, 8 + length)))
  let at = 8 + length
  for (const [name, type, size] of header.arrays as [string, keyof typeof TYPES, number][]) {
    const Kind = TYPES[type]
    header[name] = new Kind(buffer, at, size)
    at += Math.ceil((size * Kind.BYTES_PER_ELEMENT) / 4) * 4
  }
  header.position ??= new Uint16Array(0)
  header.bytes = buffer.byteLength
  return header as Packed
}

let worker: Worker | undefined
let next = 0
const waiting = new Map<number, (packed: Packed | null) => void>()

/** Fetch and decode off the page's own thread; null where there is no such frame. */
export function fetchPacked(url: string): Promise<Packed | null> {
  if (!worker) {
    worker = new Worker(new URL('./decode.worker.ts', import.meta.url), { type: 'module' })
    worker.onmessage = (message: MessageEvent<{ id: number; packed: Packed | null }>) => {
      waiting.get(message.data.id)?.(message.data.packed)
      waiting.delete(message.data.id)
    }
  }
  const id = next++
  return new Promise((resolve) => {
    waiting.set(id, resolve)
    worker!.postMessage({ id, url: new URL(url, location.href).href })
  })
}
