<script setup lang="ts">
import { computed, ref, useTemplateRef } from 'vue'

import { useHost } from '../../live/host'

/** The bed from above and the height beside it: where the head is by its own reports, where it is going, and a place to send it to. */
const { free } = defineProps<{ free: boolean }>()
const emit = defineEmits<{ to: [place: { x?: number, y?: number, z?: number }] }>()
const host = useHost()
const bed = useTemplateRef<SVGSVGElement>('bed')
const bar = useTemplateRef<SVGSVGElement>('bar')
const wish = ref<{ x?: number, y?: number, z?: number }>() // that is being dragged

const size = computed(() => host.printer ?? { width: 220, depth: 220, height: 250 })
const homed = (axes: string) => [...axes].every(a => host.motion?.homed.includes(a))
const there = computed(() => host.position?.known && homed('XY') ? host.position : undefined)
const high = computed(() => host.position?.known && homed('Z') ? host.position : undefined)
const going = computed(() => host.motion?.going && homed('XY') ? host.motion : undefined)
const lines = computed(() => {
  const step = size.value.width > 120 ? 50 : 10
  const along = (most: number) => Array.from({ length: Math.ceil(most / step) - 1 }, (_, i) => (i + 1) * step)
  return { x: along(size.value.width), y: along(size.value.depth) }
})
const words = computed(() => {
  if (wish.value) return `Let go to send it to ${Object.entries(wish.value).map(([a, v]) => `${a.toUpperCase()} ${v.toFixed(0)}`).join(', ')} mm`
  if (!there.value) return 'Where the head is is not known: home it first'
  return free ? 'Touch or drag to send the head there' : ''
})

function at(e: PointerEvent, svg: SVGSVGElement) {
  const box = svg.getBoundingClientRect()
  const share = (v: number, from: number, length: number) => Math.min(Math.max((v - from) / length, 0), 1)
  return { across: share(e.clientX, box.left, box.width), up: 1 - share(e.clientY, box.top, box.height) }
}
function aim(e: PointerEvent, begins: boolean) {
  if (!free || !bed.value || begins !== !wish.value || !homed('XY')) return
  if (begins) bed.value.setPointerCapture(e.pointerId)
  const p = at(e, bed.value)
  wish.value = { x: Math.round(p.across * size.value.width), y: Math.round(p.up * size.value.depth) }
}
function climb(e: PointerEvent, begins: boolean) {
  if (!free || !bar.value || begins !== !wish.value || !homed('Z')) return
  if (begins) bar.value.setPointerCapture(e.pointerId)
  wish.value = { z: Math.max(Math.round(at(e, bar.value).up * size.value.height), 1) }
}
function send() {
  if (wish.value) emit('to', wish.value)
  wish.value = undefined
}
</script>

<template>
  <div>
    <div class="drawing" :style="{ '--ratio': size.width / size.depth }">
      <svg
        ref="bed" class="bed" :class="{ free: free && there }" :viewBox="`0 0 ${size.width} ${size.depth}`" role="img" data-bed
        :aria-label="there ? `The head is at X ${there.x.toFixed(1)}, Y ${there.y.toFixed(1)} mm` : 'Where the head is is not known'"
        @pointerdown="aim($event, true)" @pointermove="aim($event, false)" @pointerup="send" @pointercancel="wish = undefined"
      >
        <defs><pattern id="unsure" width="12" height="12" patternUnits="userSpaceOnUse" patternTransform="rotate(45)"><rect width="5" height="12" class="hatch" /></pattern></defs>
        <line v-for="x in lines.x" :key="`x${x}`" class="grid" :x1="x" y1="0" :x2="x" :y2="size.depth" />
        <line v-for="y in lines.y" :key="`y${y}`" class="grid" x1="0" :y1="size.depth - y" :x2="size.width" :y2="size.depth - y" />
        <rect v-if="!there" width="100%" height="100%" fill="url(#unsure)" />
        <g v-if="there">
          <line v-if="going" class="way" :x1="there.x" :y1="size.depth - there.y" :x2="going.x" :y2="size.depth - going.y" />
          <circle v-if="going" class="goal" :cx="going.x" :cy="size.depth - going.y" r="6" />
          <path class="head" :d="`M ${there.x} ${size.depth - there.y} m -6 -12 h 12 v 5 l -6 7 l -6 -7 z`" data-head />
        </g>
        <circle v-if="wish?.x !== undefined" class="wish" :cx="wish.x" :cy="size.depth - wish.y!" r="7" />
      </svg>
      <svg
        ref="bar" class="bar" :class="{ free: free && high }" :viewBox="`0 0 24 ${size.depth}`" preserveAspectRatio="none" role="img"
        :aria-label="high ? `It is ${high.z.toFixed(2)} mm high` : 'How high it is is not known'"
        @pointerdown="climb($event, true)" @pointermove="climb($event, false)" @pointerup="send" @pointercancel="wish = undefined"
      >
        <rect v-if="!high" width="100%" height="100%" fill="url(#unsure)" />
        <rect v-else class="height" x="0" width="24" :y="size.depth * (1 - high.z / size.height)" :height="size.depth * high.z / size.height" />
        <line v-if="host.motion?.going && high" class="goal" x1="0" x2="24" :y1="size.depth * (1 - host.motion.z / size.height)" :y2="size.depth * (1 - host.motion.z / size.height)" />
        <line v-if="wish?.z !== undefined" class="wish" x1="0" x2="24" :y1="size.depth * (1 - wish.z / size.height)" :y2="size.depth * (1 - wish.z / size.height)" />
      </svg>
    </div>
    <p class="mb-0 mt-2 text-body-small text-medium-emphasis figures" role="status">{{ words || '\u00a0' }}</p>
  </div>
</template>

<style scoped>
.drawing { display: flex; gap: 10px; margin-inline: auto; max-width: max(240px, calc((100vh - 310px) * var(--ratio) + 34px)); }
svg { border: 1px solid rgba(var(--v-theme-on-surface), 0.4); border-radius: 6px; background: rgb(var(--v-theme-background)); touch-action: none; }
.bed { flex: 1; min-width: 0; }
.bar { width: 24px; flex: none; }
.free { cursor: crosshair; }
.grid { stroke: rgba(var(--v-theme-on-surface), 0.14); stroke-width: 0.7; }
.hatch { fill: rgba(var(--v-theme-on-surface), 0.12); }
.head { fill: rgb(var(--v-theme-primary)); stroke: rgb(var(--v-theme-background)); stroke-width: 1; }
.height { fill: rgba(var(--v-theme-primary), 0.35); }
.way { stroke: rgb(var(--v-theme-primary)); stroke-width: 1.2; stroke-dasharray: 4 4; }
.goal { fill: none; stroke: rgb(var(--v-theme-primary)); stroke-width: 2; }
.wish { fill: none; stroke: rgb(var(--v-theme-on-surface)); stroke-width: 2; stroke-dasharray: 3 2; }
</style>
