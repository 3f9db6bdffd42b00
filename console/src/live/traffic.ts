import { defineStore } from 'pinia'
import { shallowRef } from 'vue'

import { answered, api, type Schemas } from '../api/client'

type Line = Schemas['Traffic']

/** How many lines of each kind are kept: what a person scrolls through, no more. */
const kept = 600

/** Temperatures, positions, busy lines and the host's own questions, which come every second and would push out all else. */
const upkeep = /^(ok )? ?(T:|B:|X:|echo:busy)|^N\d+ (M(105|114|154|155)\b|M118 q\d+\.|G4 P\d+)|^(echo:)?q\d+\.$/

/** What was said on the wire, the oldest line first: the talk, and apart from it the upkeep. */
export const useTraffic = defineStore('traffic', () => {
  const talk = shallowRef<Line[]>([])
  const reports = shallowRef<Line[]>([])

  async function load() {
    note((await answered(api.GET('/v1/wire', { params: { query: { limit: 4000 } } }))).lines)
  }

  /** Takes lines in; those of the past may come after newer ones, and some twice. */
  function note(lines: Line[]) {
    talk.value = joined(talk.value, lines.filter(l => !upkeep.test(l.text)))
    reports.value = joined(reports.value, lines.filter(l => upkeep.test(l.text)))
  }

  function joined(had: Line[], came: Line[]): Line[] {
    if (came.length === 0) return had
    const last = had.at(-1)?.seq ?? 0
    if (came[0]!.seq > last) return [...had, ...came].slice(-kept) // as nearly always
    const known = new Set(had.map(l => l.seq))
    return [...had, ...came.filter(l => !known.has(l.seq))].sort((a, b) => a.seq - b.seq).slice(-kept)
  }

  /** Begins anew, when the host may have been started anew and counts from one again. */
  function forget() {
    talk.value = []
    reports.value = []
  }

  return { talk, reports, load, note, forget }
})
