<script setup lang="ts">
import { computed } from 'vue'

import { pastSeconds, useHeatPast } from '../../live/heatPast'
import { useHost } from '../../live/host'
import Chart from '../../ui/Chart.vue'
import type { Line, Scene } from '../../ui/chart'
import { heaterName } from '../../words/heaters'

const host = useHost()
const past = useHeatPast()

/** Two lines a heater: what is measured, and dashed what is wanted. A bed's are thicker, so that its place is not the only sign. */
const scene = computed<Scene>(() => {
  const to = Date.now() / 1000
  const lines = host.heaters.flatMap((h): Line[] => {
    const points = past.past.get(h.heater) ?? []
    const at = points.map(p => p.at)
    const name = heaterName(h.heater, host.printer?.tools)
    const bed = h.heater === 'bed'
    return [
      { name, at, values: points.map(p => p.actual), width: bed ? 3 : 1.75 },
      { name: `${name} set`, at, values: points.map(p => p.setpoint || null), width: 1.25, dash: bed ? [10, 5] : [4, 4], quiet: true },
    ]
  })
  return { lines, from: to - pastSeconds, to, unit: '°C' }
})
</script>

<template>
  <Chart :scene="scene" :height="260" label="Temperatures of the last 15 minutes" empty="No readings in the last 15 minutes: the printer tells its temperatures as soon as it answers." />
</template>
