import { defineStore } from 'pinia'
import { shallowRef } from 'vue'

import { answered, api, type Schemas } from '../api/client'

type Line = Schemas['Traffic']

/** How many lines of each kind are kept: what a person scrolls through, no more. */
const kept = 600

/** Temperatures, positions and busy lines, which come every second and would push out all else. */
const upkeep = /^(ok )? ?(T:|B:|X:|echo:busy)|^N\d+ M(105|114|154|155)\b/

/** What was said on the wire, the oldest line first: the talk, and apart from it the upkeep. */
export const useTraffic = defineStore('traffic', () => {
  const talk = shallowRef<Line[]>([])
  const reports = shallowRef<Line[]>([])
  let last = 0

  async function load() {
    note((await answered(api.GET('/v1/wire', { params: { query: { limit: 4000 } } }))).lines)
  }

  function note(lines: Line[]) {
    const fresh = lines.filter(l => l.seq > last)
    if (fresh.length === 0) return
    last = fresh.at(-1)!.seq
    talk.value = [...talk.value, ...fresh.filter(l => !upkeep.test(l.text))].slice(-kept)
    reports.value = [...reports.value, ...fresh.filter(l => upkeep.test(l.text))].slice(-kept)
  }

  /** Begins anew, when the host may have been started anew and counts from one again. */
  function forget() {
    talk.value = []
    reports.value = []
    last = 0
  }

  return { talk, reports, load, note, forget }
})
