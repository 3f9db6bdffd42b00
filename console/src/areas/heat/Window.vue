<script setup lang="ts">
import { computed } from 'vue'
import { useTheme } from 'vuetify'

import type { Schemas } from '../../api/client'
import { useHost } from '../../live/host'
import Chart from '../../ui/Chart.vue'
import { ink, type Line, type Scene, type Values } from '../../ui/chart'
import { heaterName } from '../../words/heaters'

/** An earlier stretch of one heater to lay over the window, moved by `shift` seconds. */
export interface Overlay { trace: Schemas['HeatTrace'], shift: number, name: string }
/** Where a heater is predicted to go from now on. */
export interface Ahead { heater: string, curve: number[], step: number }

const { chart, overlay = undefined, ahead } = defineProps<{ chart: Schemas['HeatChart'], overlay?: Overlay, ahead: Ahead[] }>()
const emit = defineEmits<{ zoom: [from: number, to: number] }>()
const host = useHost()
const theme = useTheme()
const nameOf = (h: string) => heaterName(h, host.printer?.tools)
/** Its place is not the only sign: the bed's line is thicker, a second nozzle's is dashed. */
const widthOf = (h: string) => h === 'bed' ? 3 : 1.75
const dashOf = (h: string) => h === 'bed' || h === 'nozzle0' ? undefined : [8, 3]
const seconds = (at: string) => Date.parse(at) / 1000

const span = computed(() => {
  const [from, to] = [seconds(chart.from), seconds(chart.to)]
  const future = Math.max(0, ...ahead.map(a => a.curve.length * a.step))
  return { from, to: to + Math.min(future, (to - from) / 2) }
})

const degrees = computed<Scene>(() => {
  const lines = chart.traces.flatMap((t): Line[] => {
    const at = t.at.map(ms => ms / 1000)
    return [
      { name: nameOf(t.heater), at, values: t.mean as Values, high: t.high as Values, low: t.low as Values, width: widthOf(t.heater), dash: dashOf(t.heater) },
      { name: `${nameOf(t.heater)} set`, at, values: (t.setpoint as Values).map(v => v || null), width: 1.25, dash: t.heater === 'bed' ? [10, 5] : [4, 4], quiet: true },
    ]
  })
  const now = Date.now() / 1000
  for (const a of ahead) lines.push({ name: `${nameOf(a.heater)}, predicted`, at: a.curve.map((_, i) => now + i * a.step), values: a.curve, width: 2, dash: [2, 5], quiet: true })
  if (overlay) {
    lines.push({
      name: overlay.name, at: overlay.trace.at.map(ms => ms / 1000 + overlay.shift), values: overlay.trace.mean as Values, width: 1.75, dash: [12, 4, 2, 4],
      colour: ink({ dark: theme.current.value.dark, alarm: '' }, 0.7),
    })
  }
  return {
    lines, ...span.value, unit: '°C',
    stretches: chart.runs.map(r => ({ from: seconds(r.from), to: seconds(r.to), name: r.file })),
    ticks: chart.marks.map(m => ({ at: seconds(m.at), strong: m.kind === 'alarm' })),
  }
})

const duty = computed<Scene>(() => ({
  lines: chart.traces.map((t): Line => {
    const values = (t.duty as Values).map(v => v == null ? null : v * 100)
    return { name: `${nameOf(t.heater)} duty`, at: t.at.map(ms => ms / 1000), values, low: values, high: values, width: t.heater === 'bed' ? 2 : 1, dash: dashOf(t.heater), colour: ink({ dark: theme.current.value.dark, alarm: '' }, t.heater === 'bed' ? 0.7 : 0.95) }
  }),
  ...span.value, unit: '%',
}))
</script>

<template>
  <div class="stack" data-heat-chart>
    <Chart :scene="degrees" :height="320" label="Temperatures in the window" empty="There are no readings in this window: the printer was off or not connected. Choose another, or a longer one." zoomable @zoom="(from, to) => emit('zoom', from, to)" />
    <Chart v-if="chart.traces.some(t => t.duty.some(v => v != null))" :scene="duty" :height="140" label="Duty of the heaters in the window" empty="The firmware tells no duty." zoomable @zoom="(from, to) => emit('zoom', from, to)" />
  </div>
</template>
