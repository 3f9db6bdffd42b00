import type { Schemas } from '../../api/client'
import { settable, type Settable } from '../../api/settable.gen'

export type Description = Schemas['Description']
export type Key = keyof Description

/** What is said of a printer in numbers, in groups, in the order in which it is asked. */
const numbers = (...keys: (keyof typeof settable.Description)[]) => keys.map(key => {
  const f: Settable = settable.Description[key]
  return { key, label: f.word, unit: f.unit, least: f.zero ? 0 : f.least, most: f.most, whole: f.whole }
})
export const size = numbers('width', 'depth', 'height')
export const limits = numbers('limit_nozzle', 'limit_bed', 'limit_chamber')
export const tools = numbers('nozzle_diameter', 'tools', 'slots')
export const filament = numbers('filament_diameter', 'filament_density', 'filament_price')

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
