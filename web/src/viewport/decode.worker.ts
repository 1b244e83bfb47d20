import { unpack, type Packed } from './packed'

self.onmessage = async (message: MessageEvent<{ id: number; url: string }>) => {
  const { id, url } = message.data
  let packed: Packed | null = null
  try {
    const reply = await fetch(url, { credentials: 'same-origin' })
    if (reply.ok) packed = unpack(await reply.arrayBuffer())
  } catch {
    packed = null
  }
  self.postMessage({ id, packed }, { transfer: packed ? [packed.position.buffer as ArrayBuffer] : [] })
}
