import { fetchPacked, type Packed } from '../viewport/packed'

const BUDGET = 600 * 2 ** 20
const AHEAD = 6

/** Frames near the playhead, kept by last use within a memory budget. */
export function useFrameCache(take: number) {
  const kept = new Map<string, Packed>()
  const asked = new Map<string, Promise<Packed | null>>()
  let bytes = 0

  function address(quality: string, stage: string, frame: number, by: string) {
    return `/api/takes/${take}/view/${quality}/${stage}/${frame}?budget=300000&by=${by}`
  }

  function at(quality: string, stage: string, frame: number, by: string): Promise<Packed | null> {
    const url = address(quality, stage, frame, by)
    const found = kept.get(url)
    if (found) {
      kept.delete(url)
      kept.set(url, found)
      return Promise.resolve(found)
    }
    let waiting = asked.get(url)
    if (!waiting) {
      waiting = fetchPacked(url).then((packed) => {
        if (asked.get(url) !== waiting) return packed // forgotten meanwhile: show it, do not keep it
        asked.delete(url)
        if (packed) {
          kept.set(url, packed)
          bytes += packed.bytes
          for (const [key, old] of kept) {
            if (bytes <= BUDGET) break
            kept.delete(key)
            bytes -= old.bytes
          }
        }
        return packed
      })
      asked.set(url, waiting)
    }
    return waiting
  }

  function prefetch(
    quality: string,
    stage: string,
    frame: number,
    by: string,
    there: (n: number) => boolean,
  ) {
    for (let n = frame + 1; n <= frame + AHEAD && asked.size < AHEAD; n++)
      if (there(n) && !kept.has(address(quality, stage, n, by))) void at(quality, stage, n, by)
  }

  /** Frames may have been made anew. */
  function forget() {
    kept.clear()
    asked.clear()
    bytes = 0
  }

  return { at, prefetch, forget }
}
