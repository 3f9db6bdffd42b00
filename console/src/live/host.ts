import { defineStore } from 'pinia'
import { computed, ref, shallowRef } from 'vue'

import { at } from '../api/base'
import { answered, api, type Events, type Problem, type Schemas } from '../api/client'
import { useHeatPast } from './heatPast'
import { useNotices } from './notices'
import { useTraffic } from './traffic'

/** Everything live, kept up to date by the host's events. */
export const useHost = defineStore('host', () => {
  const printer = ref<Schemas['Printer']>()
  const link = ref<Schemas['Link']>()
  const firmware = ref<Schemas['Firmware']>()
  const heaters = ref<Schemas['Heater'][]>([])
  const position = ref<Schemas['Position']>()
  const motion = ref<Schemas['Motion']>()
  const outputs = ref<Schemas['Output'][]>([])
  const routine = ref<Schemas['Performance']>()
  const run = ref<Schemas['Run']>()
  const messages = shallowRef<Schemas['Message'][]>([])
  const alarms = ref<Schemas['Alarm'][]>([])
  const bed = ref<Schemas['Bed']>()
  const changes = ref({ queue: 0, slots: 0 }) // how often each has changed: who shows it asks for it anew
  const warmUp = ref<Schemas['WarmingUp']>()
  const flow = ref<Schemas['Flow']>()
  const connected = ref(false)
  const heatAt = ref(Date.now()) // when the heaters were told last, by this browser's clock
  const now = ref(Date.now())
  setInterval(() => { now.value = Date.now() }, 1000)
  const problem = ref<Problem>()
  const past = useHeatPast()
  const traffic = useTraffic()
  const notices = useNotices()

  const live = computed(() => connected.value && link.value?.state === 'live')
  const going = computed(() => run.value?.going ?? false)
  /** For how many seconds nothing has been told of the heaters. */
  const heatAge = computed(() => Math.max(0, Math.round((now.value - heatAt.value) / 1000)))

  async function refresh() {
    const bench = await answered(api.GET('/v1/bench'))
    printer.value = bench.printer
    link.value = bench.link
    firmware.value = bench.firmware
    heaters.value = bench.heaters
    position.value = bench.position
    motion.value = bench.motion
    outputs.value = bench.outputs
    routine.value = bench.routine
    run.value = bench.run
    alarms.value = bench.alarms
    bed.value = bench.bed
    warmUp.value = bench.warm_up
    flow.value = bench.flow
    heatAt.value = Date.now()
  }

  function listen() {
    const events = new EventSource(at('/v1/events'))
    events.onopen = () => {
      connected.value = true
      refresh().catch(tell)
      past.load().catch(tell)
      notices.load().catch(tell)
      traffic.forget()
      traffic.load().catch(tell)
      for (const what of ['queue', 'slots'] as const) changes.value[what]++
    }
    events.onerror = () => {
      connected.value = false
      if (events.readyState === EventSource.CLOSED) { // refused, so find out why, and try again
        refresh().catch(() => undefined)
        setTimeout(listen, 3000)
      }
    }
    for (const name of Object.keys(takers) as (keyof Events)[]) {
      const take = takers[name] as (data: unknown) => void
      events.addEventListener(name, e => take(JSON.parse((e as MessageEvent<string>).data)))
    }
  }

  /** What is done with every live event. */
  const takers: { [E in keyof Events]: (data: Events[E]) => void } = {
    link(data) {
      const unmeasured = ['assumed', 'measuring'].includes(firmware.value?.holds.how ?? '')
      if (data.state === 'live' && (link.value?.state !== 'live' || unmeasured)) refresh().catch(() => undefined) // another firmware may be there, or more be known of it
      link.value = data
    },
    heat(data) {
      heatAt.value = Date.now()
      heaters.value = data.heaters
      warmUp.value = data.warm_up
      flow.value = data.flow
      past.note(data.heaters)
    },
    run(data) { run.value = data },
    position(data) { position.value = data },
    motion(data) { motion.value = data },
    outputs(data) { outputs.value = data.outputs },
    routine(data) { routine.value = data },
    alarms(data) { alarms.value = data.alarms },
    bed(data) { bed.value = data },
    notice(data) { notices.note(data) },
    changed(data) { changes.value[data.what]++ },
    wire(data) { traffic.note(data.lines) },
    message(data) { messages.value = [...messages.value, data].slice(-50) },
  }

  /** Shows a problem to the person until it is dismissed. */
  function tell(p: unknown) { problem.value = p as Problem }

  /** Does something and shows the problem if it fails; says whether it did not. */
  async function attempt(act: () => Promise<unknown>): Promise<boolean> {
    try {
      await act()
      return true
    } catch (p) {
      tell(p)
      return false
    }
  }

  // What these answer is older than the events that follow from them, so only the events are shown.
  const control = (verb: 'hold' | 'resume' | 'stop') => attempt(async () => {
    if (run.value) await answered(api.POST(`/v1/runs/{id}/${verb}`, { params: { path: { id: run.value.id } } }))
  })
  const onward = () => attempt(() => answered(api.DELETE('/v1/runs/{id}/until', { params: { path: { id: run.value!.id } } })))
  const pickUp = (id: string, choice: Schemas['PickUp']) => attempt(() => answered(api.POST('/v1/runs/{id}/pick-up', { params: { path: { id } }, body: choice })))
  const start = (order: Schemas['StartRun']) => attempt(() => answered(api.POST('/v1/runs', { body: order })))
  /** Says how the bed is, as it was seen here. */
  const sayBed = (clear: boolean) => attempt(() => answered(api.PUT('/v1/bench/bed', { body: { state: clear ? 'clear' : 'occupied', since: bed.value?.since } })))
  const halt = () => attempt(() => answered(api.POST('/v1/halt')))
  const measure = () => attempt(() => answered(api.POST('/v1/wire/measure')))
  const reconnect = () => attempt(() => answered(api.POST('/v1/bench/reconnect')))
  const setHeat = (heater: string, setpoint: number) =>
    attempt(() => answered(api.PUT('/v1/heat/{heater}', { params: { path: { heater } }, body: { setpoint } })))

  /** Says that an alarm has been seen, and, if that is known, what it was. */
  const acknowledge = (id: string, body: Schemas['Acknowledgement'] = {}) =>
    attempt(() => answered(api.POST('/v1/heat/alarms/{id}/acknowledge', { params: { path: { id } }, body })))

  return { bed, changes, sayBed, printer, link, firmware, heaters, position, motion, outputs, routine, run, messages, alarms, warmUp, flow, heatAge, acknowledge, connected, problem, live, going, refresh, listen, tell, attempt, control, onward, pickUp, start, halt, measure, reconnect, setHeat }
})
