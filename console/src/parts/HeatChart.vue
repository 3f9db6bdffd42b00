<script setup lang="ts">
import 'uplot/dist/uPlot.min.css'

import uPlot from 'uplot'
import { onBeforeUnmount, onMounted, useTemplateRef, watch } from 'vue'
import { useTheme } from 'vuetify'

import { pastSeconds, useHeatPast } from '../live/heatPast'
import { useHost } from '../live/host'
import { heaterColour, heaterName } from '../live/words'

const host = useHost()
const past = useHeatPast()
const theme = useTheme()
const box = useTemplateRef<HTMLDivElement>('box')
let chart: uPlot | undefined
let drawn = ''

/** Two lines a heater: what is measured, and dashed what is wanted. A bed's are thicker, so that colour is not the only sign. */
function options(heaters: string[]): uPlot.Options {
  const colours = theme.current.value.colors
  const ink = (share: number) => theme.current.value.dark ? `rgba(255, 255, 255, ${share})` : `rgba(0, 0, 0, ${share})`
  const axis = { stroke: ink(0.75), grid: { stroke: ink(0.1), width: 1 }, ticks: { stroke: ink(0.25), width: 1 }, font: '12px Inter Variable, sans-serif' }
  const degrees = (_: uPlot, v: number | null) => v === null ? '–' : `${v.toFixed(1)} °C`
  return {
    width: box.value?.clientWidth ?? 600,
    height: 280,
    cursor: { drag: { x: false, y: false } },
    legend: { live: true },
    scales: { x: { time: true }, y: { range: (_u, _min, max) => [0, Math.max(60, (max ?? 0) * 1.08)] } },
    axes: [{ ...axis, values: (_u, ticks) => ticks.map(t => clock(t, false)) }, { ...axis, size: 52, values: (_u, ticks) => ticks.map(t => `${t}°`) }],
    series: [
      { label: 'Time', value: (_u, t: number | null) => t === null ? '–' : clock(t, true) },
      ...heaters.flatMap((h): uPlot.Series[] => {
        const stroke = String(colours[heaterColour(h)])
        const name = heaterName(h, host.printer?.tools ?? 1)
        const width = h === 'bed' ? 3 : 1.75
        return [
          { label: name, stroke, width, value: degrees, spanGaps: false },
          { label: `${name} set`, stroke, width: 1.25, dash: h === 'bed' ? [10, 5] : [4, 4], value: degrees, spanGaps: false },
        ]
      }),
    ],
  }
}

function clock(at: number, seconds: boolean): string {
  return new Date(at * 1000).toLocaleTimeString([], { hour: '2-digit', minute: '2-digit', second: seconds ? '2-digit' : undefined, hourCycle: 'h23' })
}

/** The points of all heaters on one axis of time. */
function data(heaters: string[]): uPlot.AlignedData {
  const tables = heaters.map(h => {
    const points = past.past.get(h) ?? []
    return [points.map(p => p.at), points.map(p => p.actual), points.map(p => p.setpoint || null)] as uPlot.AlignedData
  })
  if (tables.length === 0) return [[]]
  return uPlot.join(tables)
}

function draw() {
  if (!box.value) return
  const heaters = host.heaters.map(h => h.heater)
  const shape = `${heaters.join()} ${theme.global.name.value} ${theme.current.value.dark}`
  if (!chart || shape !== drawn) {
    chart?.destroy()
    chart = new uPlot(options(heaters), data(heaters), box.value)
    drawn = shape
  } else {
    chart.setData(data(heaters), false)
  }
  const end = Date.now() / 1000
  chart.batch(() => {
    chart!.setScale('x', { min: end - pastSeconds, max: end })
    chart!.setScale('y', { min: 0, max: 0 })
  })
  if (chart.cursor.idx == null) chart.setLegend({ idx: chart.data[0].length - 1 })
}

const resized = new ResizeObserver(() => {
  if (box.value && chart) chart.setSize({ width: box.value.clientWidth, height: 280 })
})
onMounted(() => {
  draw()
  if (box.value) resized.observe(box.value)
})
onBeforeUnmount(() => {
  resized.disconnect()
  chart?.destroy()
})
watch([() => past.past, () => host.heaters, () => theme.current.value], draw)
</script>

<template>
  <div ref="box" class="figures" role="img" aria-label="Temperatures of the last 15 minutes" />
</template>

<style scoped>
div :deep(.uplot), div :deep(.u-legend) { font-family: inherit; }
div :deep(.u-legend) { text-align: left; font-size: 0.8rem; }
div :deep(.u-legend .u-value) { min-width: 4.6em; display: inline-block; }
</style>
