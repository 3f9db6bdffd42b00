import { defineStore } from 'pinia'
import { shallowRef } from 'vue'

import { answered, api, type Schemas } from '../api/client'

/** How many lines are kept: what a person scrolls through, no more. */
const kept = 600

/** What was said on the wire, the oldest line first. */
export const useTraffic = defineStore('traffic', () => {
  const lines = shallowRef<Schemas['Traffic'][]>([])

  async function load() {
    lines.value = (await answered(api.GET('/v1/wire', { params: { query: { limit: kept } } }))).lines
  }

  function note(fresh: Schemas['Traffic'][]) {
    const last = lines.value.at(-1)?.seq ?? 0
    lines.value = [...lines.value, ...fresh.filter(l => l.seq > last)].slice(-kept)
  }

  return { lines, load, note }
})
