<script setup lang="ts">
import 'uplot/dist/uPlot.min.css'

import uPlot from 'uplot'
import { computed, onBeforeUnmount, onMounted, shallowRef, useTemplateRef, watch } from 'vue'
import { useTheme } from 'vuetify'

import { tint } from '../words/heaters'
import { moment } from '../words/time'
import { columnOf, columns, gutter, type Ink, options, type Scene, shape, told } from './chart'

/** A chart whose lines are labelled where they end. Without a reading it says in words why there is nothing to see. */
const { scene, height, label, empty, zoomable = false } = defineProps<{ scene: Scene, height: number, label: string, empty: string, zoomable?: boolean }>()
const emit = defineEmits<{ zoom: [from: number, to: number] }>()

interface End { name: string, text: string, top: number, colour: string }

const theme = useTheme()
const box = useTemplateRef<HTMLDivElement>('box')
const ends = shallowRef<End[]>([])
const pointed = shallowRef('')
let chart: uPlot | undefined
let drawn = ''

const colours = computed<Ink>(() => ({ dark: theme.current.value.dark, alarm: String(theme.current.value.colors.alarm) }))
const nothing = computed(() => scene.lines.every(l => l.values.every(v => v == null)))

/** Labels every line at its end, or where the cursor points. */
function moved(u: uPlot) {
  const at = u.cursor.idx
  pointed.value = at == null || u.data[0][at] === undefined ? '' : moment(u.data[0][at]! * 1000)
  const found: End[] = []
  columnOf(scene).forEach((column, i) => {
    const line = scene.lines[i]!
    const values = u.data[column]
    if (line.quiet || !values) return
    let v = at == null ? undefined : values[at]
    if (at == null) for (let j = values.length - 1; j >= 0 && v == null; j--) v = values[j]
    if (v == null) return
    found.push({ name: line.name, text: told(v, scene.unit), top: u.valToPos(v, 'y'), colour: line.colour ?? tint(v, colours.value.dark) })
  })
  const spread = found.sort((a, b) => a.top - b.top)
  for (let i = 1; i < spread.length; i++) spread[i]!.top = Math.max(spread[i]!.top, spread[i - 1]!.top + 30) // none covers another
  for (let i = spread.length - 1, below = u.over.clientHeight - 8; i >= 0; i--, below -= 30) spread[i]!.top = Math.max(Math.min(spread[i]!.top, below), 4)
  ends.value = spread
}

function draw() {
  if (!box.value || nothing.value) {
    chart?.destroy()
    chart = undefined
    drawn = ''
    return
  }
  const now = shape(scene, colours.value)
  if (!chart || now !== drawn) {
    chart?.destroy()
    chart = new uPlot(options(() => scene, colours.value, { width: box.value.clientWidth || 600, height }, moved, zoomable ? (from, to) => emit('zoom', from, to) : undefined), columns(scene), box.value)
    drawn = now
  } else {
    chart.setData(columns(scene), false)
  }
  chart.batch(() => {
    chart!.setScale('x', { min: scene.from, max: scene.to })
    chart!.setScale('y', { min: 0, max: 0 })
  })
}

const resized = new ResizeObserver(() => { if (chart && box.value?.clientWidth) chart.setSize({ width: box.value.clientWidth, height }) })
onMounted(() => {
  draw()
  if (box.value) resized.observe(box.value)
})
onBeforeUnmount(() => {
  resized.disconnect()
  chart?.destroy()
})
watch([() => scene, colours], draw, { flush: 'post' })
</script>

<template>
  <figure class="chart figures">
    <figcaption class="unseen">{{ label }}. <template v-for="e in ends" :key="e.name">{{ e.name }}: {{ e.text }}. </template></figcaption>
    <p v-if="nothing" class="empty text-medium-emphasis" :style="{ minHeight: `${Math.min(height, 160)}px` }">{{ empty }}</p>
    <div v-show="!nothing" ref="box" aria-hidden="true" />
    <div v-if="!nothing" class="ends" :style="{ width: `${gutter - 6}px` }" aria-hidden="true">
      <div v-for="e in ends" :key="e.name" class="end" :style="{ top: `${e.top}px`, color: e.colour }"><span class="name text-truncate">{{ e.name }}</span><b>{{ e.text }}</b></div>
    </div>
    <p v-if="pointed" class="pointed text-medium-emphasis" aria-hidden="true">{{ pointed }}</p>
  </figure>
</template>

<style scoped>
.chart { position: relative; margin: 0; }
.empty { display: grid; place-items: center; text-align: center; padding: 16px; margin: 0; }
.ends { position: absolute; top: 8px; right: 0; bottom: 0; pointer-events: none; }
.end { position: absolute; left: 0; right: 0; transform: translateY(-50%); font-size: 12px; line-height: 1.2; display: flex; flex-direction: column; }
.name { font-size: 11px; }
.pointed { position: absolute; top: -6px; left: 52px; margin: 0; font-size: 12px; pointer-events: none; }
.chart :deep(.uplot) { font-family: inherit; }
</style>
