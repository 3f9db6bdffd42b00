import type { Schemas } from '../../api/client'
import { type Kind, paint, section } from './colours'
import type { Batch, Drawing } from './draw'
import { merge } from './merge'
import { type Index, lays, length, seconds, type Strokes, unpack } from './strokes'

/** How many strokes are kept. */
export const mostHeld = 700_000
/** How many strokes may be merged anew for one picture. */
const mostMerged = 60_000
/** How far what is drawn of a whole layer may be from where it lies, pixels. */
const near = 0.25

/** Strokes as they are on the graphics card: each, or merged within a tolerance in mm. */
interface Drawn { strokes: Strokes, batch: Batch, tolerance: number, painted: string }

interface Held {
  strokes: Strokes
  /** When each stroke is done, s after the first began. */
  until: Float32Array
  each?: Drawn
  whole?: Drawn
}

/** The layers that have been read, numbered from 0, and what of them is on the graphics card. */
export class Stack {
  /** What the strokes are coloured by, and whether travels and retractions are seen. */
  look: { kind: Kind, moves: boolean } = { kind: 'feature', moves: false }
  private held = new Map<number, Held>()
  private strokes = 0
  private merged = 0 // for the picture that is being made

  constructor(private drawing: Drawing, private index: Index, private file: Schemas['File']) {}

  get(number: number): Pick<Held, 'strokes' | 'until'> | undefined {
    return this.held.get(number)
  }

  has(number: number): boolean {
    return this.held.has(number)
  }

  add(number: number, bytes: Uint8Array) {
    const strokes = unpack(bytes, this.index.layers[number]!)
    const until = new Float32Array(strokes.count)
    let time = 0
    for (let i = 0; i < strokes.count; i++) until[i] = time += seconds(strokes, i)
    this.held.set(number, { strokes, until })
    this.strokes += strokes.count
  }

  /** Makes room, if there is need for it. */
  release(keep: (number: number) => boolean) {
    for (const [number, h] of this.held) {
      if (this.strokes < mostHeld) return
      if (keep(number)) continue
      this.drop(h.each)
      this.drop(h.whole)
      this.held.delete(number)
      this.strokes -= h.strokes.count
    }
  }

  /** Begins a picture. */
  begin() {
    this.merged = 0
  }

  /** Whether the picture is coarser than it will be: another is to be made. */
  get unfinished(): boolean {
    return this.merged > mostMerged
  }

  /** Every stroke of a layer. */
  each(number: number): Batch | undefined {
    const h = this.held.get(number)
    if (!h) return undefined
    h.each ??= this.drawn(h.strokes, number, 0)
    return this.coloured(h.each, number)
  }

  /** A layer as it is seen whole where a pixel is so large, mm. */
  whole(number: number, pixel: number): Batch | undefined {
    const h = this.held.get(number)
    if (!h) return undefined
    if (!h.whole || h.whole.tolerance > near * pixel * 1.01) {
      this.merged += h.strokes.count
      if (!h.whole || !this.unfinished) {
        const tolerance = near * pixel / (h.whole ? 2 : 1) // who comes nearer comes nearer still
        this.drop(h.whole)
        h.whole = this.drawn(merge(h.strokes, tolerance), number, tolerance)
      }
    }
    return this.coloured(h.whole, number)
  }

  private drawn(strokes: Strokes, number: number, tolerance: number): Drawn {
    const widths = new Float32Array(strokes.count)
    const { height } = this.index.layers[number]!
    const area = section(this.file)
    for (let i = 0; i < strokes.count; i++) {
      if (lays(strokes, i)) widths[i] = Math.min(Math.max(area * strokes.filament[i]! / (Math.max(length(strokes, i), 0.01) * Math.max(height, 0.05)), 0.2), 1.4)
    }
    return { strokes, batch: this.drawing.batch(strokes.ends, widths, strokes.count), tolerance, painted: '' }
  }

  private coloured(d: Drawn, number: number): Batch {
    const look = `${this.look.kind} ${this.look.moves}`
    if (d.painted !== look) this.drawing.colour(d.batch, paint(this.look.kind, this.look.moves, d.strokes, number, this.index, this.file))
    d.painted = look
    return d.batch
  }

  private drop(d?: Drawn) {
    if (d) this.drawing.drop(d.batch)
  }
}
