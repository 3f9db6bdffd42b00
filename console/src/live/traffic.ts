import { defineStore } from 'pinia'
import { shallowRef } from 'vue'

import { answered, api, type Schemas } from '../api/client'

export type Line = Schemas['Traffic']

/** How many lines are kept: what a person scrolls through. */
const kept = 10_000

/** What was said on the wire, the oldest line first. The list is added to in place; version tells that it has changed. */
export const useTraffic = defineStore('traffic', () => {
  let lines: Line[] = []
  const version = shallowRef(0)
  const rewritten = shallowRef(0) // what stands before the newest has changed

  async function load() {
    note((await answered(api.GET('/v1/wire', { params: { query: { limit: 4000 } } }))).lines)
  }

  /** Takes lines in; those of the past may come after newer ones, and some twice. */
  function note(came: Line[]) {
    if (came.length === 0) return
    const last = lines.at(-1)?.seq ?? 0
    if (came[0]!.seq > last) { // as nearly always
      for (const l of came) lines.push(l)
    } else {
      const known = new Set(lines.map(l => l.seq))
      lines = [...lines, ...came.filter(l => !known.has(l.seq))].sort((a, b) => a.seq - b.seq)
      rewritten.value++
    }
    if (lines.length > kept + 1000) lines.splice(0, lines.length - kept) // seldom, and many at once
    version.value++
  }

  /** Begins anew, when the host may have been started anew and counts from one again. */
  function forget() {
    lines = []
    rewritten.value++
  }

  return { all: () => lines, version, rewritten, load, note, forget }
})
