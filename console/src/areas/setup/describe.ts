import type { Schemas } from '../../api/client'

export type Description = Schemas['Description']
export type Key = keyof Description

interface Number { key: Key, label: string, unit?: string, least?: number, most?: number, whole?: boolean }

/** What is said of a printer in numbers, in the order in which it is asked. */
export const size: Number[] = [
  { key: 'width', label: 'Width, X', unit: 'mm', least: 1, most: 5000 },
  { key: 'depth', label: 'Depth, Y', unit: 'mm', least: 1, most: 5000 },
  { key: 'height', label: 'Height, Z', unit: 'mm', least: 1, most: 5000 },
]
export const limits: Number[] = [
  { key: 'limit_nozzle', label: 'Nozzle at most', unit: '°C', least: 1, most: 550 },
  { key: 'limit_bed', label: 'Bed at most', unit: '°C', most: 250 },
  { key: 'limit_chamber', label: 'Chamber at most', unit: '°C', most: 250 },
]
export const tools: Number[] = [
  { key: 'nozzle_diameter', label: 'Nozzle', unit: 'mm', least: 0.05, most: 5 },
  { key: 'tools', label: 'Tools', least: 1, most: 16, whole: true },
  { key: 'slots', label: 'Slots for filament', most: 16, whole: true },
]
export const filament: Number[] = [
  { key: 'filament_diameter', label: 'Filament', unit: 'mm', least: 1, most: 4 },
  { key: 'filament_density', label: 'Its density', unit: 'g/cm³', least: 0.1, most: 20 },
  { key: 'filament_price', label: 'A kilogram costs', most: 1e6 },
]

/** The colours that are offered: apart from one another, from the ember and from an alarm. */
export const colours = [
  { value: '#3f6f9c', name: 'blue' }, { value: '#2f7f78', name: 'teal' }, { value: '#64792f', name: 'moss' }, { value: '#a67c14', name: 'ochre' },
  { value: '#7d5f43', name: 'brown' }, { value: '#8a5aa5', name: 'plum' }, { value: '#b4607c', name: 'rose' }, { value: '#68727c', name: 'slate' },
]

/** What is different in one description from another. */
export function changed(draft: Description, from: Description): Description {
  const keys = (Object.keys(draft) as Key[]).filter(k => draft[k] !== undefined && draft[k] !== from[k])
  return Object.fromEntries(keys.map(k => [k, draft[k]]))
}
