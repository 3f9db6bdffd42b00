import { asProblem, type Problem, unreachable } from '../../api/client'

/** The form is docs/layers.md's. */
const tailSize = 48
const entrySize = 36
const perMM = 100
const perMMofE = 1000
const perSpeed = 10

export interface Layer { offset: number, size: number, strokes: number, command: number, z: number, height: number, begins: number }
export interface Index { layers: Layer[], strokes: number, min: [number, number, number], max: [number, number, number] }

/** The strokes of one layer, each at the same place of every array. */
export interface Strokes {
  count: number
  ends: Float32Array // x, y, z where it begins and x, y, z where it ends, mm
  filament: Float32Array // mm, negative for a retraction
  speed: Float32Array // mm/s
  fan: Uint8Array // %
  nozzle: Uint16Array // °C
  command: Uint32Array // of the file, from 1
}

async function range(address: string, bytes: string, signal?: AbortSignal): Promise<DataView> {
  let answer: Response
  try {
    answer = await fetch(address, { headers: { Range: `bytes=${bytes}` }, signal })
  } catch {
    throw unreachable()
  }
  if (answer.status === 204) throw { status: 404, title: 'it has not been drawn yet' } satisfies Problem
  if (!answer.ok) throw asProblem(await answer.json().catch(() => undefined), answer.status)
  return new DataView(await answer.arrayBuffer())
}

/** Reads the index at the end of a file of layers. */
export async function readIndex(address: string): Promise<Index> {
  const tail = await range(address, `-${tailSize}`)
  const at = Number(tail.getBigUint64(0, true))
  const count = tail.getUint32(8, true)
  const corner = (from: number): [number, number, number] => [tail.getFloat32(from, true), tail.getFloat32(from + 4, true), tail.getFloat32(from + 8, true)]
  const index: Index = { layers: [], strokes: tail.getUint32(12, true), min: corner(16), max: corner(28) }
  if (!count) return index
  const entries = await range(address, `${at}-${at + count * entrySize - 1}`)
  for (let o = 0; o < count * entrySize; o += entrySize) {
    index.layers.push({
      offset: Number(entries.getBigUint64(o, true)), size: entries.getUint32(o + 8, true), strokes: entries.getUint32(o + 12, true), command: entries.getUint32(o + 16, true),
      z: entries.getFloat32(o + 20, true), height: entries.getFloat32(o + 24, true), begins: entries.getFloat32(o + 28, true),
    })
  }
  return index
}

/** Reads the strokes of one layer, or of several that stand behind each other. */
export async function readStrokes(address: string, first: Layer, last: Layer, signal: AbortSignal): Promise<DataView> {
  return range(address, `${first.offset}-${last.offset + last.size - 1}`, signal)
}

/** No strokes yet, and room for n. */
export const roomFor = (n: number): Strokes => ({ count: 0, ends: new Float32Array(6 * n), filament: new Float32Array(n), speed: new Float32Array(n), fan: new Uint8Array(n), nozzle: new Uint16Array(n), command: new Uint32Array(n) })

/** Unpacks a layer's bytes. */
export function unpack(bytes: Uint8Array, layer: Layer): Strokes {
  const n = layer.strokes
  const out = roomFor(n)
  let o = 0
  let x = 0, y = 0, z = 0, e = 0, speed = 0, fan = 0, nozzle = 0
  let command = layer.command
  const number = () => { // without a sign; beyond 32 bits, too
    let v = 0
    let scale = 1
    for (;;) {
      const b = bytes[o++]!
      if (b < 128) return v + b * scale
      v += (b - 128) * scale
      scale *= 128
    }
  }
  const signed = () => {
    const v = number()
    return v % 2 ? -(v + 1) / 2 : v / 2
  }
  while (o < bytes.length && out.count <= n) {
    const kind = bytes[o]! & 7
    let ahead = bytes[o]! >> 3
    o++
    if (kind < 3) {
      if (out.count === n) break
      if (ahead === 31) ahead += number()
      command += ahead
      const i = out.count++
      const end = 6 * i
      out.ends[end] = x / perMM
      out.ends[end + 1] = y / perMM
      out.ends[end + 2] = z / perMM
      x += signed()
      y += signed()
      if (kind === 2) z += signed()
      const before = e
      if (kind !== 0) e += signed()
      out.ends[end + 3] = x / perMM
      out.ends[end + 4] = y / perMM
      out.ends[end + 5] = z / perMM
      out.filament[i] = (e - before) / perMMofE
      out.speed[i] = speed
      out.fan[i] = fan
      out.nozzle[i] = nozzle
      out.command[i] = command
    } else if (kind === 3) speed = number() / perSpeed
    else if (kind === 4) fan = bytes[o++]!
    else if (kind === 5) nozzle = number()
    else if (kind === 6) o++
    else {
      x = signed()
      y = signed()
      z = signed()
      e = signed()
    }
  }
  return out
}

/** Whether a stroke lays plastic. */
export function lays(s: Strokes, i: number): boolean {
  const o = 6 * i
  return s.filament[i]! > 0 && (s.ends[o] !== s.ends[o + 3] || s.ends[o + 1] !== s.ends[o + 4])
}

/** The way of a stroke, mm; of one that goes nowhere, its filament's. */
export function length(s: Strokes, i: number): number {
  const o = 6 * i
  const x = s.ends[o + 3]! - s.ends[o]!, y = s.ends[o + 4]! - s.ends[o + 1]!, z = s.ends[o + 5]! - s.ends[o + 2]!
  return Math.sqrt(x * x + y * y + z * z) || Math.abs(s.filament[i]!) // Math.hypot takes ten times as long
}

/** How long a stroke takes at its speed, s. */
export const seconds = (s: Strokes, i: number) => length(s, i) / Math.max(s.speed[i]!, 0.1)
