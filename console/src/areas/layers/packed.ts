import { type Index, readStrokes } from './strokes'

/** How many bytes of layers are kept as they came. */
const most = 32 << 20
/** How many are asked for at once. */
const chunk = 1 << 19
/** How many layers on either side of the one that is seen are kept whatever they need. */
const beside = 3

/**
 * The layers of a file as they came, numbered from 0. Those that are not seen yet are read ahead, the nearest first,
 * so that choosing one does not wait for the network.
 */
export class Packed {
  private bytes = new Map<number, Uint8Array>()
  private size = 0

  constructor(private address: string, private index: Index) {}

  get(number: number): Uint8Array | undefined {
    return this.bytes.get(number)
  }

  /**
   * What is to be read next while the layers from low to top are seen, of which some are unpacked, and whether it is
   * one of them; nothing, if all is there.
   */
  next(top: number, low: number, unpacked: (number: number) => boolean): { first: number, last: number, seen: boolean } | undefined {
    for (let i = top; i >= low; i--) if (!this.bytes.has(i) && !unpacked(i)) return { ...this.along(i, i === top ? 0 : -1), seen: true }
    for (let away = 1; away < this.index.layers.length; away++) {
      for (const [number, way] of [[top + away, 1], [top - away, -1]] as const) {
        const layer = this.index.layers[number]
        if (!layer || this.bytes.has(number)) continue
        if (this.size + layer.size > most && away > beside) return undefined
        return { ...this.along(number, way), seen: false }
      }
    }
    return undefined
  }

  /** As many layers from one on, in a direction, as are asked for at once. */
  private along(from: number, way: -1 | 0 | 1): { first: number, last: number } {
    let to = from
    let size = this.index.layers[from]!.size
    while (way && this.index.layers[to + way] && !this.bytes.has(to + way) && size < chunk) size += this.index.layers[to += way]!.size
    return { first: Math.min(from, to), last: Math.max(from, to) }
  }

  /** Reads layers; what is farthest from top has to go if they are too many. */
  async read(first: number, last: number, top: number, signal: AbortSignal) {
    const { layers } = this.index
    const all = await readStrokes(this.address, layers[first]!, layers[last]!, signal)
    for (let i = first; i <= last; i++) {
      this.bytes.set(i, new Uint8Array(all.buffer.slice(layers[i]!.offset - layers[first]!.offset, layers[i]!.offset - layers[first]!.offset + layers[i]!.size)))
      this.size += layers[i]!.size
    }
    if (this.size <= most) return
    for (const number of [...this.bytes.keys()].sort((a, b) => Math.abs(b - top) - Math.abs(a - top))) {
      if (this.size <= most || Math.abs(number - top) <= beside) return
      this.size -= this.bytes.get(number)!.length
      this.bytes.delete(number)
    }
  }
}
