<script setup lang="ts">
import 'uplot/dist/uPlot.min.css'

import uPlot from 'uplot'
import { onBeforeUnmount, onMounted, useTemplateRef, watch } from 'vue'
import { useTheme } from 'vuetify'

import type { Schemas } from '../api/client'
import { useHost } from '../live/host'
import { heaterColour, heaterName } from '../live/words'

/** An earlier stretch of one heater to lay over the window, moved by `shift` seconds. */
export interface Overlay { trace: Schemas['HeatTrace'], shift: number, name: string }
/** Where a heater is predicted to go from now on. */
export interface Ahead { heater: string, curve: number[], step: number }

const { chart, overlay = undefined, ahead } = defineProps<{ chart: Schemas['HeatChart'], overlay?: Overlay, ahead: Ahead[] }>()
const emit = defineEmits<{ zoom: [from: number, to: number] }>()
const host = useHost()
const theme = useTheme()
const degreesBox = useTemplateRef<HTMLDivElement>('degreesBox')
const dutyBox = useTemplateRef<HTMLDivElement>('dutyBox')
let degrees: uPlot | undefined
let duty: uPlot | undefined
let drawn = ''
const degreesHeight = 320
const dutyHeight = 130

type Column = (number | null)[]
const ink = (share: number) => theme.current.value.dark ? `rgba(255, 255, 255, ${share})` : `rgba(0, 0, 0, ${share})`
const nameOf = (h: string) => heaterName(h, host.printer?.tools ?? 1)
const colourOf = (h: string) => String(theme.current.value.colors[heaterColour(h)])
/** Colour is not the only sign: the bed's line is thicker, a second nozzle's is dashed. */
const widthOf = (h: string) => h === 'bed' ? 3 : 1.75
const dashOf = (h: string) => h === 'bed' || h === 'nozzle0' ? undefined : [8, 3]

function axis(): Partial<uPlot.Axis> {
  return { stroke: ink(0.75), grid: { stroke: ink(0.1), width: 1 }, ticks: { stroke: ink(0.25), width: 1 }, font: '12px Inter Variable, sans-serif' }
}

/** The text of times on the axis, by how far they are apart. */
function times(ticks: number[], step: number): string[] {
  return ticks.map(t => {
    const d = new Date(t * 1000)
    if (step >= 86400) return d.toLocaleDateString([], { day: 'numeric', month: 'short', year: step >= 20 * 86400 ? '2-digit' : undefined })
    const clock = d.toLocaleTimeString([], { hour: '2-digit', minute: '2-digit', second: step < 60 ? '2-digit' : undefined, hourCycle: 'h23' })
    return step >= 6 * 3600 ? `${d.toLocaleDateString([], { day: 'numeric', month: 'short' })} ${clock}` : clock
  })
}

const moment = (t: number | null) => t === null ? '–' : new Date(t * 1000).toLocaleString([], { day: 'numeric', month: 'short', hour: '2-digit', minute: '2-digit', second: '2-digit', hourCycle: 'h23' })
const celsius = (_: uPlot, v: number | null) => v == null ? '–' : `${v.toFixed(1)} °C`
const percent = (_: uPlot, v: number | null) => v == null ? '–' : `${Math.round(v)} %`

/** Whether every point is one reading, so that it has no extremes of its own. */
const plain = () => chart.traces.every(t => t.high.every((v, i) => v === t.mean[i]))

/** Bands of runs behind the lines, and a tick at the top for each mark. */
const background: uPlot.Plugin = {
  hooks: {
    drawAxes: [u => {
      const { ctx, bbox } = u
      const place = (at: number) => u.valToPos(at, 'x', true)
      ctx.save()
      ctx.beginPath()
      ctx.rect(bbox.left, bbox.top, bbox.width, bbox.height)
      ctx.clip()
      for (const r of chart.runs) {
        const from = place(Date.parse(r.from) / 1000)
        const to = Math.max(place(Date.parse(r.to) / 1000), from + 2)
        const narrow = to - from < 12 * devicePixelRatio
        ctx.fillStyle = ink(narrow ? 0.1 : 0.05)
        ctx.fillRect(from, bbox.top, to - from, bbox.height)
        if (!narrow) {
          ctx.strokeStyle = ink(0.25)
          ctx.strokeRect(from, bbox.top, to - from, bbox.height)
        }
        if (to - from > 60 * devicePixelRatio) {
          ctx.fillStyle = ink(0.6)
          ctx.font = `${11 * devicePixelRatio}px Inter Variable, sans-serif`
          ctx.textBaseline = 'top'
          ctx.textAlign = 'left'
          ctx.save()
          ctx.beginPath()
          ctx.rect(from, bbox.top, to - from, bbox.height)
          ctx.clip()
          ctx.fillText(r.file, Math.max(from, bbox.left) + 5 * devicePixelRatio, bbox.top + 4 * devicePixelRatio)
          ctx.restore()
        }
      }
      const crowded = chart.marks.length > 60
      for (const m of chart.marks) {
        if (crowded && m.kind !== 'alarm') continue
        const at = place(Date.parse(m.at) / 1000)
        ctx.strokeStyle = m.kind === 'alarm' ? String(theme.current.value.colors.error) : ink(0.3)
        ctx.setLineDash(m.kind === 'alarm' ? [] : [2, 4])
        ctx.lineWidth = (m.kind === 'alarm' ? 2 : 1) * devicePixelRatio
        ctx.beginPath()
        ctx.moveTo(at, bbox.top)
        ctx.lineTo(at, bbox.top + bbox.height)
        ctx.stroke()
      }
      ctx.restore()
    }],
  },
}

/**
 * A stroke from the lowest to the highest for stretches between gaps that are as narrow as a line: between
 * the gaps on both sides nothing of a line through their points would be left.
 */
const lone = (lower: boolean): uPlot.Plugin => ({
  hooks: {
    draw: [u => {
      const { ctx, bbox } = u
      ctx.save()
      ctx.beginPath()
      ctx.rect(bbox.left, bbox.top, bbox.width, bbox.height)
      ctx.clip()
      for (const t of chart.traces) {
        const values = lower ? t.duty : t.mean
        ctx.strokeStyle = colourOf(t.heater)
        ctx.lineWidth = widthOf(t.heater) * devicePixelRatio
        ctx.lineCap = 'round'
        for (let i = 0; i < values.length; i++) {
          if (values[i] == null) continue
          let [low, high] = [Infinity, -Infinity]
          const begins = i
          for (; values[i] != null; i++) {
            const v = values[i]!
            low = Math.min(low, lower ? v * 100 : t.low[i] ?? v)
            high = Math.max(high, lower ? v * 100 : t.high[i] ?? v)
          }
          const [from, to] = [t.at[begins]!, t.at[i - 1]!].map(at => u.valToPos(at / 1000, 'x', true))
          if (to! - from! > 3 * devicePixelRatio) continue
          ctx.beginPath()
          ctx.moveTo((from! + to!) / 2, u.valToPos(low, 'y', true))
          ctx.lineTo((from! + to!) / 2, u.valToPos(high, 'y', true) - 1)
          ctx.stroke()
        }
      }
      ctx.restore()
    }],
  },
})

function options(lower: boolean): uPlot.Options {
  const series: uPlot.Series[] = [{ label: 'Time', value: (_u, t: number | null) => moment(t) }]
  const bands: uPlot.Band[] = []
  const extremes = plain() ? 'minor' : undefined
  for (const t of chart.traces) {
    const stroke = colourOf(t.heater)
    if (lower) {
      series.push({ label: `${nameOf(t.heater)} duty`, stroke, width: t.heater === 'bed' ? 2 : 1, dash: dashOf(t.heater), value: percent, points: { show: false } })
      continue
    }
    series.push(
      { label: nameOf(t.heater), stroke, width: widthOf(t.heater), dash: dashOf(t.heater), value: celsius, points: { show: false } },
      { label: `${nameOf(t.heater)} set`, stroke, width: 1.25, dash: t.heater === 'bed' ? [10, 5] : [4, 4], value: celsius, points: { show: false } },
      { label: `${nameOf(t.heater)} highest`, class: extremes, stroke: 'transparent', value: celsius, points: { show: false } },
      { label: `${nameOf(t.heater)} lowest`, class: extremes, stroke: 'transparent', value: celsius, points: { show: false } },
    )
    bands.push({ series: [series.length - 2, series.length - 1], fill: `${stroke}33` })
  }
  if (!lower) {
    for (const a of ahead) series.push({ label: `${nameOf(a.heater)} predicted`, stroke: colourOf(a.heater), width: 2, dash: [2, 5], value: celsius, points: { show: false } })
    if (overlay) series.push({ label: overlay.name, stroke: ink(0.6), width: 1.75, dash: [12, 4, 2, 4], value: celsius, points: { show: false } })
  }
  return {
    width: degreesBox.value?.clientWidth ?? 600,
    height: lower ? dutyHeight : degreesHeight,
    cursor: { drag: { x: true, y: false, setScale: false }, sync: { key: 'heat' } },
    legend: { live: true },
    plugins: lower ? [lone(true)] : [background, lone(false)],
    hooks: {
      setSelect: [u => {
        if (u.select.width > 4) emit('zoom', u.posToVal(u.select.left, 'x'), u.posToVal(u.select.left + u.select.width, 'x'))
        u.setSelect({ left: 0, top: 0, width: 0, height: 0 }, false)
      }],
    },
    scales: { x: { time: true }, y: { range: lower ? [0, 100] : (_u, _min, max) => [0, Math.max(60, (max ?? 0) * 1.08)] } },
    axes: [
      { ...axis(), values: (_u, ticks, _i, _s, step) => times(ticks, step), space: 90 },
      { ...axis(), size: 52, values: (_u, ticks) => ticks.map(t => lower ? `${t} %` : `${t}°`), space: lower ? 28 : 40 },
    ],
    series, bands,
  }
}

/** All columns on one axis of time. A gap is a null, which joining must not fill. */
function data(lower: boolean): uPlot.AlignedData {
  const tables: uPlot.AlignedData[] = []
  for (const t of chart.traces) {
    const at = t.at.map(ms => ms / 1000)
    const column = (values: Column) => values
    if (lower) tables.push([at, t.duty.map(v => v == null ? null : v * 100)])
    else tables.push([at, column(t.mean as Column), (t.setpoint as Column).map(v => v || null), column(t.high as Column), column(t.low as Column)])
  }
  if (!lower) {
    const now = Date.now() / 1000
    for (const a of ahead) tables.push([a.curve.map((_, i) => now + i * a.step), a.curve])
    if (overlay) tables.push([overlay.trace.at.map(ms => ms / 1000 + overlay.shift), overlay.trace.mean as Column])
  }
  if (tables.length === 0) return [[]]
  return uPlot.join(tables, tables.map(t => t.slice(1).map(() => 1 as uPlot.JoinNullMode)))
}

function draw() {
  if (!degreesBox.value || !dutyBox.value) return
  const shape = `${chart.traces.map(t => t.heater).join()} ${ahead.map(a => a.heater).join()} ${overlay?.name} ${plain()} ${theme.global.name.value} ${theme.current.value.dark}`
  if (!degrees || !duty || shape !== drawn) {
    degrees?.destroy()
    duty?.destroy()
    degrees = new uPlot(options(false), data(false), degreesBox.value)
    duty = new uPlot(options(true), data(true), dutyBox.value)
    drawn = shape
  } else {
    degrees.setData(data(false), false)
    duty.setData(data(true), false)
  }
  const [from, to] = [Date.parse(chart.from) / 1000, Date.parse(chart.to) / 1000]
  const future = Math.max(0, ...ahead.map(a => a.curve.length * a.step))
  for (const u of [degrees, duty]) {
    u.batch(() => {
      u.setScale('x', { min: from, max: to + (future > 0 ? Math.min(future, (to - from) / 2) : 0) })
      u.setScale('y', { min: 0, max: 0 })
    })
    if (u.cursor.idx == null) u.setLegend({ idx: u.data[0].length - 1 })
  }
}

const resized = new ResizeObserver(() => {
  const width = degreesBox.value?.clientWidth
  if (!width) return
  degrees?.setSize({ width, height: degreesHeight })
  duty?.setSize({ width, height: dutyHeight })
})
onMounted(() => {
  draw()
  if (degreesBox.value) resized.observe(degreesBox.value)
})
onBeforeUnmount(() => {
  resized.disconnect()
  degrees?.destroy()
  duty?.destroy()
})
watch([() => chart, () => overlay, () => ahead, () => theme.current.value], draw)
</script>

<template>
  <div>
    <div ref="degreesBox" class="figures" role="img" aria-label="Temperatures in the window" data-heat-chart />
    <div ref="dutyBox" class="figures" role="img" aria-label="Duty of the heaters in the window" />
  </div>
</template>

<style scoped>
div :deep(.uplot), div :deep(.u-legend) { font-family: inherit; }
div :deep(.u-legend) { text-align: left; font-size: 0.8rem; }
div :deep(.u-legend .minor) { display: none; }
div :deep(.u-legend .u-value) { min-width: 4.6em; display: inline-block; }
</style>
