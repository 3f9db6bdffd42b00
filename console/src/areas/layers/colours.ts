import type { Index, Layer, Strokes } from './strokes'
import { length } from './strokes'

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
export const steps = 256
export const table = (scale: Colour[]) => Array.from({ length: steps }, (_, i) => along(scale, i / (steps - 1)))

export const rampOf = (kind: Kind) => kind === 'heat' ? heat : ramp
export const css = (c: Colour) => `rgb(${c.map(Math.round).join(' ')})`

/** The value of a stroke by which it is coloured. */
export function value(kind: Kind, s: Strokes, i: number, layer: Layer, took: number, section: number): number {
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
