/** What a heater is called on a page: nozzles by the numbers that lines have for them, as tools and slots. */
export function heaterName(heater: string, tools = 1): string {
  if (heater === 'bed') return 'Bed'
  if (heater === 'chamber') return 'Chamber'
  return tools > 1 ? `Nozzle ${heater.slice(6)}` : 'Nozzle'
}

/** The ends of the scale of heat, in °C: a room, and a nozzle that prints. */
const room = 25
const printing = 250

/** Where a temperature is on the scale of heat, from 0 to 1. A bed is warm on it, not cold. */
const share = (celsius: number) => Math.sqrt(Math.min(Math.max((celsius - room) / (printing - room), 0), 1))

type Colour = [number, number, number]
const scales: Record<'light' | 'dark', [Colour, Colour, Colour]> = {
  light: [[70, 90, 110], [122, 82, 60], [178, 58, 12]],
  dark: [[160, 180, 198], [214, 160, 122], [255, 150, 88]],
}

/** The colour of a temperature: from slate, a room, to ember, printing. */
export function tint(celsius: number, dark: boolean): string {
  const [slate, middle, ember] = scales[dark ? 'dark' : 'light']
  const s = share(celsius) * 2
  const [from, to, at] = s < 1 ? [slate, middle, s] : [middle, ember, s - 1]
  return `rgb(${from.map((c, i) => Math.round(c + (to[i]! - c) * at)).join(' ')})`
}
