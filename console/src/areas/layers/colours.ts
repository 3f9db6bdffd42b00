import type { Schemas } from '../../api/client'
import type { Index, Layer, Strokes } from './strokes'
import { lays, length } from './strokes'

/** What strokes can be coloured by. */
export const kinds = {
  feature: { title: 'Height and speed', unit: '' },
  speed: { title: 'Speed', unit: 'mm/s' },
  height: { title: 'Layer height', unit: 'mm' },
  flow: { title: 'Flow', unit: 'mm³/s' },
  fan: { title: 'Fan', unit: '%' },
  heat: { title: 'Nozzle', unit: '°C' },
  time: { title: 'Time of the layer', unit: 's' },
}
export type Kind = keyof typeof kinds

type Colour = [number, number, number]

/** From ink to sand, for anything but heat. */
const ramp: Colour[] = [[44, 74, 92], [46, 118, 122], [108, 150, 104], [196, 170, 84], [226, 206, 150]]
/** The scale of heat, from a room to printing. */
const heat: Colour[] = [[70, 90, 110], [150, 96, 70], [205, 82, 30], [240, 150, 70]]
/** Features beside each other. */
export const features: Colour[] = [[46, 118, 122], [196, 150, 60], [118, 92, 150], [92, 140, 70], [176, 84, 96], [70, 104, 160], [150, 120, 84], [60, 150, 150], [190, 120, 160], [130, 134, 60]]
export const travel: Colour = [150, 140, 130]
export const retraction: Colour = [200, 60, 110]

export function along(scale: Colour[], share: number): Colour {
  const at = Math.min(Math.max(share, 0), 1) * (scale.length - 1)
  const i = Math.min(Math.floor(at), scale.length - 2)
  return [0, 1, 2].map(c => scale[i]![c]! + (scale[i + 1]![c]! - scale[i]![c]!) * (at - i)) as Colour
}

/** The colours of a scale, from its one end to the other, so that none is worked out for each stroke. */
const steps = 256
const table = (scale: Colour[]) => Array.from({ length: steps }, (_, i) => along(scale, i / (steps - 1)))

export const rampOf = (kind: Kind) => kind === 'heat' ? heat : ramp
export const css = (c: Colour) => `rgb(${c.map(Math.round).join(' ')})`

/** The value of a stroke by which it is coloured. */
function value(kind: Kind, s: Strokes, i: number, layer: Layer, took: number, section: number): number {
  switch (kind) {
    case 'speed': return s.speed[i]!
    case 'height': return layer.height
    case 'flow': return section * s.filament[i]! / Math.max(length(s, i), 1e-6) * s.speed[i]!
    case 'fan': return s.fan[i]!
    case 'heat': return s.nozzle[i]!
    case 'time': return took
    default: return 0
  }
}

/** How long a layer takes, s. */
export function took(index: Index, number: number, duration: number): number {
  const next = index.layers[number + 1]
  return (next ? next.begins : duration) - index.layers[number]!.begins
}

/** How much plastic a millimetre of filament is, mm². */
export const section = (file: Schemas['File']) => file.filament_mm > 0 ? file.filament_mm3 / file.filament_mm : 2.4

/** From where to where the scale of colours goes. */
export function reach(kind: Kind, index: Index, file: Schemas['File']): { from: number, to: number } {
  switch (kind) {
    case 'speed': return { from: 0, to: Math.max(file.fastest, 1) }
    case 'flow': return { from: 0, to: Math.max(file.flow, 0.1) }
    case 'fan': return { from: 0, to: 100 }
    case 'heat': return { from: 25, to: 250 }
    case 'height': {
      const all = index.layers.map(l => l.height)
      return { from: Math.min(...all), to: Math.max(...all, Math.min(...all) + 0.05) }
    }
    default: {
      const all = index.layers.map((_, i) => took(index, i, file.duration_seconds)).sort((a, b) => a - b)
      return { from: 0, to: Math.max(all[Math.floor(all.length * 0.98)] ?? 1, 1) }
    }
  }
}

/** The colours of a layer's strokes, four bytes each; of travels and retractions only if they are to be seen. */
export function paint(kind: Kind, moves: boolean, s: Strokes, number: number, index: Index, file: Schemas['File']): Uint8Array {
  const layer = index.layers[number]!
  const time = took(index, number, file.duration_seconds)
  const height = layer.height.toFixed(2)
  const known = new Map(file.features?.map((f, i) => [f.height.toFixed(2) === height ? f.speed : -1 - i, features[i % features.length]!]))
  const scale = table(rampOf(kind))
  const { from, to } = reach(kind, index, file)
  const per = (steps - 1) / (to - from || 1)
  const area = section(file)
  const out = new Uint8Array(4 * s.count)
  let at = 0
  for (let i = 0; i < s.count; i++) {
    const laid = lays(s, i)
    let colour = travel
    if (!laid) colour = s.filament[i]! < 0 ? retraction : travel
    else if (kind === 'feature') colour = known.get(Math.max(Math.round(s.speed[i]!), 1)) ?? features[0]!
    else colour = scale[Math.round(Math.min(Math.max((value(kind, s, i, layer, time, area) - from) * per, 0), steps - 1))]!
    out[at++] = colour[0]
    out[at++] = colour[1]
    out[at++] = colour[2]
    out[at++] = laid ? 255 : moves ? 170 : 0
  }
  return out
}
