import { computed, ref, shallowRef, watch } from 'vue'

import { answered, api, inWords, type Problem, type Schemas } from '../../api/client'
import { useIntervalFn } from '../../live/interval'
import { useKept } from '../../live/kept'

/** The windows that a button leads to, in seconds. */
export const windows = [
  { title: '5 min', seconds: 300 }, { title: '15 min', seconds: 900 }, { title: '1 h', seconds: 3600 }, { title: '6 h', seconds: 6 * 3600 },
  { title: '1 day', seconds: 86400 }, { title: '1 week', seconds: 7 * 86400 }, { title: '1 month', seconds: 30 * 86400 }, { title: '1 year', seconds: 365 * 86400 }, { title: '3 years', seconds: 3 * 365 * 86400 },
]

/** A window of the temperature log: as long as `length`, up to now while `end` is undefined. Times are seconds since 1970. */
export function useHeatWindow(points: () => number) {
  const length = useKept('heat.length', 900, seconds => seconds >= 10)
  const end = ref<number>()
  const chart = shallowRef<Schemas['HeatChart']>()
  const problem = ref('')
  let asked = 0

  const live = computed(() => end.value === undefined)
  const query = () => {
    const to = end.value ?? Date.now() / 1000
    return { from: time(to - length.value), to: time(to) }
  }

  async function load() {
    const mine = ++asked
    try {
      const found = await answered(api.GET('/v1/heat/chart', { params: { query: { ...query(), points: points() } } }))
      if (mine !== asked) return
      chart.value = found
      problem.value = ''
    } catch (p) {
      if (mine === asked) problem.value = inWords(p as Problem)
    }
  }

  /** Shows the last so many seconds, live. */
  function last(seconds: number) {
    length.value = seconds
    end.value = undefined
  }

  /** Shows from one time to another; live if that is now. */
  function show(from: number, to: number) {
    length.value = Math.max(to - from, 10)
    end.value = to >= Date.now() / 1000 - 1 ? undefined : to
  }

  /** Moves by a share of the window. */
  function pan(share: number) {
    const to = (end.value ?? Date.now() / 1000) + share * length.value
    show(to - length.value, to)
  }

  /** Makes the window longer or shorter about its middle, or about now while it is live. */
  function zoom(factor: number) {
    const longest = 5 * 365 * 86400
    const next = Math.min(Math.max(length.value * factor, 30), longest)
    if (end.value !== undefined) end.value = Math.min(end.value + (next - length.value) / 2, Date.now() / 1000)
    length.value = next
  }

  watch([length, end], load)
  useIntervalFn(() => { if (live.value && length.value <= 6 * 3600 && !document.hidden) void load() }, 2000)
  return { length, end, live, chart, problem, query, load, last, show, pan, zoom }
}

export const time = (seconds: number) => new Date(seconds * 1000).toISOString()
