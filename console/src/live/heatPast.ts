import { defineStore } from 'pinia'
import { shallowRef, triggerRef } from 'vue'

import { answered, api, type Schemas } from '../api/client'

/** How much of the past is shown, in seconds. */
export const pastSeconds = 15 * 60

export interface Point { at: number, actual: number, setpoint: number | null }

/** The last minutes of every heater, in seconds since 1970 and °C. */
export const useHeatPast = defineStore('heatPast', () => {
  const past = shallowRef(new Map<string, Point[]>())

  async function load() {
    const log = await answered(api.GET('/v1/heat'))
    const next = new Map<string, Point[]>()
    for (const r of log.readings) put(next, r.heater, { at: Date.parse(r.at) / 1000, actual: r.actual, setpoint: r.setpoint ?? null })
    past.value = next
  }

  function note(heaters: Schemas['Heater'][]) {
    for (const h of heaters) {
      if (h.at !== undefined && h.actual !== undefined) put(past.value, h.heater, { at: Date.parse(h.at) / 1000, actual: h.actual, setpoint: h.setpoint })
    }
    triggerRef(past)
  }

  return { past, load, note }
})

function put(into: Map<string, Point[]>, heater: string, p: Point) {
  const points = into.get(heater) ?? []
  const last = points.at(-1)
  if (last && p.at <= last.at) return
  points.push(p)
  while (points.length > 0 && points[0]!.at < p.at - pastSeconds) points.shift()
  into.set(heater, points)
}
