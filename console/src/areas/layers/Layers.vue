<script setup lang="ts">
import { mdiArrowLeft, mdiCrosshairsGps, mdiPause, mdiPlay } from '@mdi/js'
import { computed, onBeforeUnmount, onMounted, ref, shallowRef, useTemplateRef, watch } from 'vue'
import { useRoute } from 'vue-router'

import { at as below } from '../../api/base'
import { answered, api, type Problem, inWords, type Schemas } from '../../api/client'
import { useHost } from '../../live/host'
import Page from '../../ui/Page.vue'
import { countdown, span } from '../../words/time'
import { along, css, features, type Kind, kinds, rampOf, reach, retraction, took, travel } from './colours'
import { type Batch, Drawing, matrix, type View } from './draw'
import { Packed } from './packed'
import { mostHeld, Stack } from './stack'
import { type Index, readIndex } from './strokes'

/** The layers of a file: any of them, stroke by stroke, from above or as they stand on each other. */

const speeds = [1, 10, 60, 300]

const host = useHost()
const route = useRoute()
const name = computed(() => String(route.params.name))
const address = computed(() => below(`/v1/shelf/${encodeURIComponent(name.value)}/layers`))
const canvas = useTemplateRef<HTMLCanvasElement>('canvas')
const file = shallowRef<Schemas['File']>()
const index = shallowRef<Index>()
const problem = ref('')
const layer = ref(1) // from 1
const stroke = ref(0) // of the layer, how many are drawn
const deep = ref(false)
const kind = ref<Kind>('feature')
const moves = ref(false)
const follow = ref(false)
const playing = ref(false)
const rate = ref(10)
const view = ref<View>({ turned: 0, leant: 0, zoom: 1, x: 0, y: 0 })
const drawn = ref({ layer: 0, ribbons: 0 }) // what is on the screen, for who waits for it
let drawing: Drawing | undefined
let stack: Stack | undefined
let packed: Packed | undefined
let frame = 0
let played = 0 // strokes that are drawn while it plays
let shown = { scene: '', count: 0 } // what is on the screen

const now = computed(() => index.value?.layers[layer.value - 1])
const printing = computed(() => host.run?.file === name.value && host.run.going && host.run.progress ? host.run : undefined)
const layerTook = computed(() => index.value && file.value && now.value ? took(index.value, layer.value - 1, file.value.duration_seconds) : 0)

/** What each colour means. */
const legend = computed(() => {
  if (kind.value === 'feature') return (file.value?.features ?? []).map((f, i) => ({ colour: css(features[i % features.length]!), text: `${f.height.toFixed(2)} mm, ${f.speed.toFixed(0)} mm/s` }))
  if (!index.value || !file.value) return []
  const { from, to } = reach(kind.value, index.value, file.value)
  return [0, 0.25, 0.5, 0.75, 1].map(s => {
    const v = from + (to - from) * s
    return { colour: css(along(rampOf(kind.value), s)), text: `${to - from < 3 ? v.toFixed(2) : v.toFixed(0)} ${kinds[kind.value].unit}` }
  })
})

/** The lowest layer that is drawn below one: as far as there is room for. */
function lowest(number: number): number {
  if (!deep.value) return Math.max(number - 1, 0)
  let strokes = 0
  let first = number
  while (first >= 0 && strokes < mostHeld) strokes += index.value!.layers[first--]!.strokes
  return first + 1
}

let reading = false
let asking: AbortController | undefined // for what is not to be seen yet
const aheadAfter = 60 // ms without another choice
const atOnce = 100_000 // strokes unpacked between two pictures
const pause = (time: number) => new Promise(resolve => setTimeout(resolve, time))

/** Reads the layers that are to be seen, the nearest first, and then those that may be next. */
async function read() {
  asking?.abort()
  if (reading || !packed || !stack) return
  reading = true
  try {
    for (;;) {
      const top = layer.value - 1
      const low = lowest(top)
      if (unpack(top, low)) {
        draw()
        await pause(0)
        continue
      }
      const next = packed.next(top, low, i => stack!.has(i))
      if (!next) return
      const asks = new AbortController()
      if (!next.seen) {
        asking = asks
        await pause(aheadAfter)
      }
      try {
        if (!asks.signal.aborted) await packed.read(next.first, next.last, top, asks.signal)
      } catch (p) {
        if (!asks.signal.aborted) throw p
      }
    }
  } catch (p) {
    problem.value = inWords(p as Problem)
  } finally {
    reading = false
  }
}

/** Unpacks layers that are to be seen and have come, the nearest first; reports whether there were any. */
function unpack(top: number, low: number): boolean {
  let strokes = 0
  for (let i = top; i >= low && strokes < atOnce; i--) {
    const bytes = stack!.has(i) ? undefined : packed!.get(i)
    if (!bytes) continue
    stack!.release(i => i >= low && i <= top)
    stack!.add(i, bytes)
    strokes += stack!.get(i)!.strokes.count + 1
    if (i === top && !playing.value && !printing.value) stroke.value = stack!.get(i)!.strokes.count
  }
  return strokes > 0
}

function redraw() {
  if (!frame) frame = requestAnimationFrame(draw)
}

function draw() {
  if (frame) cancelAnimationFrame(frame)
  frame = 0
  const c = canvas.value
  const x = index.value
  if (!c || !x || !drawing || !stack) return
  const ratio = Math.min(window.devicePixelRatio || 1, 2)
  const width = Math.round(c.clientWidth * ratio), height = Math.round(c.clientHeight * ratio)
  if (c.width !== width || c.height !== height) Object.assign(c, { width, height })
  const top = layer.value - 1
  const m = matrix(deep.value ? view.value : { ...view.value, turned: 0, leant: 0 }, [x.min[0], x.min[1], 0], x.max, width, height)
  const parts: { batch: Batch, count: number }[] = []
  stack.begin()
  if (deep.value) for (let i = lowest(top); i < top; i++) {
    const below = stack.whole(i, m.pixel)
    if (below) parts.push({ batch: below, count: below.count })
  }
  const count = playing.value ? played : stroke.value
  const all = stack.get(top)?.strokes.count
  const batch = all === count ? stack.whole(top, m.pixel) : stack.each(top)
  const scene = [top, kind.value, moves.value, width, height, ...m.matrix].join()
  if (batch && playing.value && !deep.value && all !== count && scene === shown.scene && count >= shown.count) {
    drawing.more(batch, shown.count, count)
    shown.count = count
    return
  }
  if (batch) {
    const ribbons = Math.min(count, batch.count)
    parts.push({ batch, count: ribbons })
    drawn.value = { layer: layer.value, ribbons }
  }
  drawing.draw(m.matrix, m.pixel, deep.value, parts)
  shown = { scene: batch && all !== count ? scene : '', count }
  place(m.matrix, c.clientWidth, c.clientHeight)
  if (stack.unfinished) redraw()
}

/** Where the nozzle is, by the printer's own reports, on the picture. */
const nozzle = ref<{ left: string, top: string }>()
function place(m: Float32Array, width: number, height: number) {
  const p = host.position
  if (!printing.value || !p?.known) {
    nozzle.value = undefined
    return
  }
  const at = (row: number) => m[row]! * p.x + m[row + 4]! * p.y + m[row + 8]! * p.z + m[row + 12]!
  nozzle.value = { left: `${(at(0) + 1) / 2 * width}px`, top: `${(1 - at(1)) / 2 * height}px` }
}

watch([layer, deep], () => {
  const h = stack?.get(layer.value - 1)
  if (h && !playing.value) stroke.value = h.strokes.count
  redraw()
  void read()
})
watch([stroke, view, () => host.position], () => { if (!playing.value) redraw() }, { deep: true })
watch([kind, moves], () => {
  if (stack) stack.look = { kind: kind.value, moves: moves.value }
  redraw()
})
watch(() => [follow.value, printing.value?.progress?.command], () => {
  const p = printing.value?.progress
  const x = index.value
  if (!follow.value || !p || !x) return
  playing.value = false
  let i = x.layers.findIndex(l => l.command > p.command)
  if (i < 0) i = x.layers.length
  layer.value = Math.max(i, 1)
  const h = stack?.get(layer.value - 1)
  if (h) {
    const n = h.strokes.command.findIndex(c => c > p.command)
    stroke.value = n < 0 ? h.strokes.count : n
  }
})

// Playing: time passes as the strokes' lengths and speeds have it.
const tellEvery = 150 // ms between what the slider shows
let before = 0
let toldAt = 0
let at = 0
function step(time: number) {
  if (!playing.value) return
  const h = stack?.get(layer.value - 1)
  const x = index.value!
  if (h) {
    at += Math.min(time - before, 100) / 1000 * rate.value
    while (played < h.strokes.count && h.until[played]! <= at) played++
    if (played >= h.strokes.count) {
      if (layer.value < x.layers.length) {
        layer.value++
        stroke.value = played = 0
        at = 0
      } else {
        stroke.value = played
        playing.value = false
      }
    } else if (time - toldAt > tellEvery) {
      stroke.value = played
      toldAt = time
    }
    draw()
  }
  before = time
  requestAnimationFrame(step)
}
watch(playing, on => {
  if (!on) {
    stroke.value = Math.max(stroke.value, played)
    return
  }
  follow.value = false
  const h = stack?.get(layer.value - 1)
  if (h && stroke.value >= h.strokes.count) stroke.value = 0
  played = stroke.value
  at = h && played > 0 ? h.until[played - 1]! : 0
  before = performance.now()
  requestAnimationFrame(step)
})

/** A person has chosen a move. */
function seek(to: number) {
  stroke.value = played = to
  playing.value = follow.value = false
}

function key(e: KeyboardEvent) {
  if (e.target instanceof HTMLElement && e.target.closest('input, textarea, [role=slider], [role=combobox], [role=listbox], button')) return
  const most = stack?.get(layer.value - 1)?.strokes.count ?? 0
  const act: Record<string, () => void> = {
    'ArrowUp': () => { layer.value = Math.min(layer.value + 1, index.value?.layers.length ?? 1) },
    'ArrowDown': () => { layer.value = Math.max(layer.value - 1, 1) },
    'PageUp': () => { layer.value = Math.min(layer.value + 10, index.value?.layers.length ?? 1) },
    'PageDown': () => { layer.value = Math.max(layer.value - 10, 1) },
    'ArrowRight': () => { stroke.value = Math.min(stroke.value + (e.shiftKey ? 100 : 1), most) },
    'ArrowLeft': () => { stroke.value = Math.max(stroke.value - (e.shiftKey ? 100 : 1), 0) },
    'Home': () => { layer.value = 1 },
    'End': () => { layer.value = index.value?.layers.length ?? 1 },
    ' ': () => { playing.value = !playing.value },
    '+': () => { view.value.zoom = Math.min(view.value.zoom * 1.25, 40) },
    '-': () => { view.value.zoom = Math.max(view.value.zoom / 1.25, 0.5) },
  }
  if (!act[e.key]) return
  e.preventDefault()
  act[e.key]!()
}

// Dragging turns it, or moves it from above; two fingers or a wheel come nearer.
const pointers = new Map<number, { x: number, y: number }>()
function drag(e: PointerEvent) {
  const was = pointers.get(e.pointerId)
  if (!was) return
  const others = [...pointers].filter(([id]) => id !== e.pointerId).map(([, p]) => p)
  const v = view.value
  if (others[0]) {
    const far = (p: { x: number, y: number }) => Math.hypot(p.x - others[0]!.x, p.y - others[0]!.y)
    v.zoom = Math.min(Math.max(v.zoom * far({ x: e.clientX, y: e.clientY }) / Math.max(far(was), 1), 0.5), 40)
  } else if (deep.value && !e.shiftKey) {
    v.turned += (e.clientX - was.x) * 0.008
    v.leant = Math.min(Math.max(v.leant + (e.clientY - was.y) * 0.008, 0.05), Math.PI / 2)
  } else {
    const x = index.value!
    const pixel = matrix(deep.value ? v : { ...v, leant: 0, turned: 0 }, [x.min[0], x.min[1], 0], x.max, canvas.value!.clientWidth, canvas.value!.clientHeight).pixel
    v.x += (e.clientX - was.x) * pixel
    v.y -= (e.clientY - was.y) * pixel
  }
  pointers.set(e.pointerId, { x: e.clientX, y: e.clientY })
}
function wheel(e: WheelEvent) { view.value.zoom = Math.min(Math.max(view.value.zoom * Math.exp(-e.deltaY * 0.0015), 0.5), 40) }
function look(on: boolean) {
  deep.value = on
  view.value = on ? { turned: 0.62, leant: 0.6, zoom: 1, x: 0, y: 0 } : { turned: 0, leant: 0, zoom: 1, x: 0, y: 0 }
}

let gone = false
let tries = 0
const share = ref(0)
let resized: ResizeObserver | undefined
onMounted(async () => {
  window.addEventListener('keydown', key)
  try {
    file.value = await answered(api.GET('/v1/shelf/{name}', { params: { path: { name: name.value } } }))
    for (;;) {
      try {
        index.value = await readIndex(address.value)
        break
      } catch (p) { // the host may be at it still
        const { survey } = file.value = await answered(api.GET('/v1/shelf/{name}', { params: { path: { name: name.value } } }))
        if (gone || survey.state === 'refused' || survey.state === 'done' && !file.value.extent || tries++ > 200) throw p
        share.value = survey.share
        await new Promise(resolve => setTimeout(resolve, 1000))
      }
    }
    if (!canvas.value) return
    drawing = new Drawing(canvas.value)
    stack = new Stack(drawing, index.value, file.value)
    packed = new Packed(address.value, index.value)
    resized = new ResizeObserver(redraw)
    resized.observe(canvas.value)
    layer.value = Math.max(index.value.layers.length, 1)
    if (printing.value) follow.value = true
    await read()
  } catch (p) {
    problem.value = p instanceof Error ? p.message : inWords(p as Problem)
  }
})
onBeforeUnmount(() => {
  gone = true
  asking?.abort()
  playing.value = false
  window.removeEventListener('keydown', key)
  resized?.disconnect()
  if (frame) cancelAnimationFrame(frame)
})
</script>

<template>
  <Page title="Layers" :problem="problem">
    <div class="whole" data-layers :data-drawn="drawn.layer" :data-ribbons="drawn.ribbons">
      <div class="head">
        <v-btn :icon="mdiArrowLeft" variant="text" size="44" to="/shelf" title="Back to the shelf" aria-label="Back to the shelf" />
        <h2 class="text-title-medium break">{{ name }}</h2>
      </div>
      <div class="scene" :class="{ deep }">
        <canvas
          ref="canvas" tabindex="0" aria-label="The layer; the arrow keys choose layer and move, the space bar plays"
          @pointerdown="pointers.set($event.pointerId, { x: $event.clientX, y: $event.clientY }); ($event.target as HTMLElement).setPointerCapture($event.pointerId)"
          @pointermove="drag" @pointerup="pointers.delete($event.pointerId)" @pointercancel="pointers.delete($event.pointerId)" @wheel.prevent="wheel"
        />
        <span v-if="nozzle" class="nozzle" :style="nozzle" title="The nozzle, as the printer has told" />
      </div>
      <ul class="legend figures" :aria-label="kinds[kind].title">
        <li v-for="l in legend" :key="l.text"><i :style="{ background: l.colour }" />{{ l.text }}</li>
        <li v-if="moves"><i :style="{ background: css(travel) }" />travel</li>
        <li v-if="moves"><i :style="{ background: css(retraction) }" />retraction</li>
      </ul>
      <div v-if="index && now" class="steer">
        <p class="outlook figures mb-1"><strong class="text-title-large">Layer {{ layer }}</strong> of {{ index.layers.length }} · Z {{ now.z.toFixed(2) }} mm · {{ now.height.toFixed(2) }} mm high · {{ countdown(layerTook) }}, from {{ span(now.begins) }} on</p>
        <label class="slide"><span>Layer</span><v-slider v-model="layer" :min="1" :max="index.layers.length" :step="1" color="primary" hide-details aria-label="Layer" @update:model-value="follow = false" /></label>
        <label class="slide"><span>Move</span><v-slider v-model="stroke" :min="0" :max="Math.max(now.strokes, 1)" :step="1" color="primary" hide-details aria-label="Move within the layer" @update:model-value="seek" /></label>
        <div class="acts">
          <v-btn :icon="playing ? mdiPause : mdiPlay" variant="tonal" color="primary" size="44" :title="playing ? 'Stand still' : 'Play'" :aria-label="playing ? 'Stand still' : 'Play'" data-play @click="playing = !playing" />
          <v-btn-toggle v-model="rate" mandatory density="compact" variant="outlined" divided aria-label="How fast it plays"><v-btn v-for="r in speeds" :key="r" :value="r" size="small">×{{ r }}</v-btn></v-btn-toggle>
          <v-btn-toggle :model-value="deep" mandatory density="compact" variant="outlined" divided aria-label="How it is looked at" @update:model-value="look"><v-btn :value="false" size="small">From above</v-btn><v-btn :value="true" size="small" data-deep>3D</v-btn></v-btn-toggle>
          <v-select v-model="kind" class="kind" label="Colour by" :items="Object.entries(kinds).map(([value, k]) => ({ value, title: k.title }))" />
          <v-checkbox v-model="moves" label="Travel and retraction" density="compact" hide-details />
          <v-btn v-if="printing" variant="tonal" :color="follow ? 'primary' : undefined" :prepend-icon="mdiCrosshairsGps" @click="follow = !follow">{{ follow ? 'Following' : 'Follow the print' }}</v-btn>
        </div>
      </div>
      <p v-else-if="!problem" class="text-medium-emphasis text-center py-4" role="status">The host is looking at it{{ share ? `, ${(share * 100).toFixed(0)} %` : '' }}…</p>
    </div>
  </Page>
</template>

<style scoped>
.whole { display: flex; flex-direction: column; gap: 8px; min-width: 0; }
.whole > * { min-width: 0; }
.head { display: flex; align-items: center; gap: 6px; }
.scene { position: relative; height: max(320px, calc(100vh - 352px)); border: 1px solid rgba(var(--v-border-color), var(--v-border-opacity)); border-radius: 12px; background: rgb(var(--v-theme-surface)); overflow: hidden; }
canvas { width: 100%; height: 100%; touch-action: none; cursor: grab; display: block; }
.legend { list-style: none; padding: 0; margin: 0; font-size: 0.8rem; display: flex; flex-wrap: wrap; gap: 2px 14px; }
.legend i { display: inline-block; width: 18px; height: 8px; border-radius: 4px; margin-right: 6px; }
.nozzle { position: absolute; width: 18px; height: 18px; margin: -9px 0 0 -9px; border: 3px solid rgb(var(--v-theme-primary)); border-radius: 50%; pointer-events: none; }
.slide { display: grid; grid-template-columns: 52px minmax(0, 1fr); align-items: center; font-size: 0.85rem; padding-right: 14px; overflow: hidden; }
.acts { display: flex; flex-wrap: wrap; align-items: center; gap: 8px 12px; }
.kind { flex: 0 1 220px; }
@media (width < 600px) {
  .scene { height: 40vh; min-height: 260px; }
  .legend { font-size: 0.72rem; }
  .outlook { font-size: 0.85rem; }
}
</style>
