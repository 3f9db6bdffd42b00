import uPlot from 'uplot'

import { tint } from '../words/heaters'
import { clock, date, day } from '../words/time'

export type Values = (number | null | undefined)[]

/** One line of a chart, on a time axis of its own. */
export interface Line {
  name: string
  at: number[] // seconds since 1970
  values: Values
  low?: Values // where each point stands for many
  high?: Values
  width: number
  dash?: number[]
  colour?: string // otherwise that of its temperature
  quiet?: boolean // it has no label at its end: another's says it
}

/** A stretch of time behind the lines, with its name. */
export interface Stretch { from: number, to: number, name: string }
/** A moment across the lines. */
export interface Tick { at: number, strong: boolean }

/** What a chart shows. Times are seconds since 1970. */
export interface Scene {
  lines: Line[]
  from: number
  to: number
  unit: '°C' | '%'
  stretches?: Stretch[]
  ticks?: Tick[]
}

/** The colours that a theme gives a chart. */
export interface Ink { dark: boolean, alarm: string }

export const ink = (i: Ink, share: number) => i.dark ? `rgba(255, 244, 230, ${share})` : `rgba(40, 28, 16, ${share})`

/** A value with its unit, in words. */
export const told = (v: number, unit: Scene['unit']) => unit === '%' ? `${Math.round(v)} %` : `${v.toFixed(1)} °C`

/** The width that is kept free for the labels at the lines' ends. */
export const gutter = 92

/** The text of times on the axis, by how far they are apart. */
function times(ticks: number[], step: number): string[] {
  return ticks.map(t => {
    const at = t * 1000
    if (step >= 86400) return step >= 20 * 86400 ? date(at) : day(at)
    return step >= 6 * 3600 ? `${day(at)} ${clock(at)}` : clock(at, step < 60)
  })
}

/** A brush that is as hot at each height as the temperature there. */
function heat(u: uPlot, dark: boolean): CanvasGradient | string {
  const { top, height } = u.bbox
  const { min, max } = u.scales.y!
  if (min == null || max == null || !Number.isFinite(top + height) || height <= 0) return tint(25, dark)
  const brush = u.ctx.createLinearGradient(0, top + height, 0, top)
  for (let i = 0; i <= 12; i++) brush.addColorStop(i / 12, tint(min + (max - min) * i / 12, dark))
  return brush
}

function clipped(u: uPlot, draw: (ctx: CanvasRenderingContext2D, box: uPlot.BBox) => void) {
  u.ctx.save()
  u.ctx.beginPath()
  u.ctx.rect(u.bbox.left, u.bbox.top, u.bbox.width, u.bbox.height)
  u.ctx.clip()
  draw(u.ctx, u.bbox)
  u.ctx.restore()
}

/** Stretches and moments behind the lines. */
function behind(u: uPlot, scene: Scene, colours: Ink) {
  const pixel = devicePixelRatio
  const place = (at: number) => u.valToPos(at, 'x', true)
  clipped(u, (ctx, box) => {
    for (const s of scene.stretches ?? []) {
      const from = place(s.from)
      const to = Math.max(place(s.to), from + 2)
      const narrow = to - from < 12 * pixel
      ctx.fillStyle = ink(colours, narrow ? 0.12 : 0.05)
      ctx.fillRect(from, box.top, to - from, box.height)
      if (!narrow) {
        ctx.strokeStyle = ink(colours, 0.2)
        ctx.strokeRect(from, box.top, to - from, box.height)
      }
      if (to - from > 60 * pixel) {
        ctx.save()
        ctx.beginPath()
        ctx.rect(from, box.top, to - from, box.height)
        ctx.clip()
        ctx.fillStyle = ink(colours, 0.65)
        ctx.font = `${11 * pixel}px Inter Variable, sans-serif`
        ctx.textBaseline = 'top'
        ctx.textAlign = 'left'
        ctx.fillText(s.name, Math.max(from, box.left) + 5 * pixel, box.top + 4 * pixel)
        ctx.restore()
      }
    }
    const crowded = (scene.ticks?.length ?? 0) > 60
    for (const t of scene.ticks ?? []) {
      if (crowded && !t.strong) continue
      ctx.strokeStyle = t.strong ? colours.alarm : ink(colours, 0.3)
      ctx.setLineDash(t.strong ? [] : [2 * pixel, 4 * pixel])
      ctx.lineWidth = (t.strong ? 2 : 1) * pixel
      ctx.beginPath()
      ctx.moveTo(place(t.at), box.top)
      ctx.lineTo(place(t.at), box.top + box.height)
      ctx.stroke()
    }
  })
}

/**
 * A stroke from the lowest to the highest for stretches between gaps that are as narrow as a line: between the
 * gaps on both sides nothing of a line through their points would be left.
 */
function lone(u: uPlot, scene: Scene, colours: Ink) {
  clipped(u, ctx => {
    for (const l of scene.lines) {
      if (!l.low) continue
      ctx.strokeStyle = l.colour ?? heat(u, colours.dark)
      ctx.lineWidth = Math.max(l.width, 2) * devicePixelRatio
      ctx.lineCap = 'round'
      for (let i = 0; i < l.values.length; i++) {
        if (l.values[i] == null) continue
        let [low, high] = [Infinity, -Infinity]
        const begins = i
        for (; l.values[i] != null; i++) {
          low = Math.min(low, l.low[i] ?? l.values[i]!)
          high = Math.max(high, l.high?.[i] ?? l.values[i]!)
        }
        const [from, to] = [l.at[begins]!, l.at[i - 1]!].map(at => u.valToPos(at, 'x', true))
        if (to! - from! > 3 * devicePixelRatio) continue
        ctx.beginPath()
        ctx.moveTo((from! + to!) / 2, u.valToPos(low, 'y', true))
        ctx.lineTo((from! + to!) / 2, u.valToPos(high, 'y', true) - 3 * devicePixelRatio) // so that one value alone is seen, too
        ctx.stroke()
      }
    }
  })
}

/** What of a scene makes it another chart, so that it cannot only be given other data. */
export const shape = (s: Scene, i: Ink) => JSON.stringify([s.unit, i, s.lines.map(l => [l.name, l.width, l.dash, l.colour, l.quiet, l.low !== undefined])])

/** The columns of all lines on one axis of time. A gap is a null, which joining must not fill. */
export function columns(s: Scene): uPlot.AlignedData {
  if (s.lines.length === 0) return [[]]
  const tables = s.lines.map(l => [l.at, l.values, ...(l.low ? [l.high!, l.low] : [])] as uPlot.AlignedData)
  return uPlot.join(tables, tables.map(t => t.slice(1).map(() => 1 as uPlot.JoinNullMode)))
}

/** Which column each line's values are. */
export function columnOf(s: Scene): number[] {
  let next = 1
  return s.lines.map(l => {
    const mine = next
    next += l.low ? 3 : 1
    return mine
  })
}

/** The options of a chart. Scene is asked for again whenever it is drawn. */
export function options(scene: () => Scene, colours: Ink, size: { width: number, height: number }, moved: (u: uPlot) => void, chosen?: (from: number, to: number) => void): uPlot.Options {
  const first = scene()
  const series: uPlot.Series[] = [{}]
  const bands: uPlot.Band[] = []
  for (const l of first.lines) {
    const stroke = l.colour ?? ((u: uPlot) => heat(u, colours.dark))
    series.push({ label: l.name, stroke, width: l.width, dash: l.dash, points: { show: false } })
    if (!l.low) continue
    series.push({ stroke: 'transparent', points: { show: false } }, { stroke: 'transparent', points: { show: false } })
    bands.push({ series: [series.length - 2, series.length - 1], fill: ink(colours, 0.14) })
  }
  const axis: Partial<uPlot.Axis> = { stroke: ink(colours, 0.8), grid: { stroke: ink(colours, 0.09), width: 1 }, ticks: { show: false }, font: '12px Inter Variable, sans-serif' }
  const percent = first.unit === '%'
  return {
    ...size, series, bands,
    padding: [8, gutter, 0, 0],
    legend: { show: false },
    cursor: { drag: { x: chosen !== undefined, y: false, setScale: false }, sync: { key: 'heat' }, points: { show: false } },
    scales: { x: { time: true }, y: { range: percent ? [0, 100] : (_u, _min, max) => [0, Math.max(60, (max ?? 0) * 1.08)] } },
    axes: [
      { ...axis, size: 30, values: (_u, ticks, _i, _s, step) => times(ticks, step), space: 90 },
      { ...axis, size: 46, values: (_u, ticks) => ticks.map(t => percent ? `${t} %` : `${t}°`), space: percent ? 28 : 40 },
    ],
    hooks: {
      drawAxes: [u => behind(u, scene(), colours)],
      draw: [u => lone(u, scene(), colours), moved],
      setCursor: [moved],
      setSelect: [u => {
        if (u.select.width > 4) chosen?.(u.posToVal(u.select.left, 'x'), u.posToVal(u.select.left + u.select.width, 'x'))
        u.setSelect({ left: 0, top: 0, width: 0, height: 0 }, false)
      }],
    },
  }
}
