<script setup lang="ts">
import { mdiChevronDown, mdiChevronUp, mdiContentCopy, mdiDownload, mdiMagnify, mdiPause, mdiPlay, mdiRuler } from '@mdi/js'
import { computed, onBeforeUnmount, onMounted, ref, useTemplateRef, watch } from 'vue'
import { useDisplay } from 'vuetify'

import { at } from '../../api/base'
import { useHost } from '../../live/host'
import { useKept } from '../../live/kept'
import { useTraffic } from '../../live/traffic'
import Page from '../../ui/Page.vue'
import { type Filter, filters, inText, Rows } from './rows'
import Say from './Say.vue'
import { type Columns, height, Sheet } from './sheet'

const host = useHost()
const traffic = useTraffic()
const display = useDisplay()
const box = useTemplateRef<HTMLDivElement>('box')
const page = useTemplateRef<HTMLDivElement>('page')
const wanted = useKept<Filter[]>('wire.filters', ['ours', 'file', 'acknowledgement', 'error'], all => all.every(f => filters.some(known => known.value === f)))
const paused = ref(false)
const find = ref('')
const looked = computed(() => find.value.trim().toLowerCase())
let rows = new Rows(new Set(wanted.value), true)
const empty = ref(true)
const count = ref(0) // of rows, while something is looked for: nothing else of the page depends on each of them
const missed = ref(0)
let sheet: Sheet | undefined
let top = 0 // of what is seen, in pixels, as it was placed last
let view = 0 // how high that is
let follows = true

/** Notes where a person has scrolled to, if it is not where it was placed. */
function moved(): boolean {
  const el = box.value
  if (!el || Math.abs(el.scrollTop - top) < 1) return false
  top = el.scrollTop
  view = el.clientHeight // which may have grown, and moved it
  follows = top + view >= el.scrollHeight - 1
  return true
}
/** Draws what is seen; the newest, unless the person has gone back from it. */
function draw() {
  moved()
  empty.value = rows.rows.length === 0
  if (looked.value) count.value = rows.rows.length
  if (follows) top = Math.max(0, rows.rows.length * height - view)
  sheet?.show(rows.rows, top, view, looked.value, hits.value[hit.value] ?? -1, columns, follows && !paused.value)
  if (follows && box.value) box.value.scrollTop = top
}
/** What came at once is shown over several pictures, so that none of them takes long. */
const atOnce = 16
let due = 0
function schedule() {
  due ||= requestAnimationFrame(() => {
    due = 0
    take()
  })
}
function take() {
  if (paused.value) {
    missed.value = (traffic.all().at(-1)?.seq ?? 0) - pausedAt
    return
  }
  const dropped = rows.dropped
  const left = rows.take(traffic.all(), atOnce)
  if (left > 0) schedule()
  if (rows.dropped > dropped && !follows) { // what is looked at stays where it is
    top = Math.max(0, top - (rows.dropped - dropped) * height)
    box.value!.scrollTop = top
  }
  draw()
}
let pausedAt = 0
function pause() {
  paused.value = !paused.value
  draw()
  pausedAt = traffic.all().at(-1)?.seq ?? 0
  missed.value = 0
  if (!paused.value) schedule()
}
function anew() {
  rows = new Rows(new Set(wanted.value), !display.xs.value)
  rows.take(traffic.all())
  follows = true
  draw()
}
function scrolled() {
  if (moved()) draw()
}
watch(() => traffic.version, schedule)
watch([wanted, () => display.xs.value, () => traffic.rewritten], anew)
const letters = useTemplateRef<HTMLSpanElement>('letters') // ten of them
let columns: Columns = { time: 0, said: 0, heard: 0, beside: false }
const timeWide = 10 // letters
const sized = new ResizeObserver(() => {
  view = box.value!.clientHeight
  const letter = letters.value!.getBoundingClientRect().width / 10 || 8 // pixels
  const wide = Math.max(Math.floor((box.value!.clientWidth - 24) / letter), 3 * timeWide)
  const said = Math.floor((wide - timeWide) * 3 / 7)
  columns = display.xs.value ? { time: 0, said: wide, heard: wide, beside: false } : { time: timeWide, said, heard: wide - timeWide - said, beside: true }
  draw()
})
onMounted(() => {
  sheet = new Sheet(page.value!)
  sized.observe(box.value!)
  anew()
})
onBeforeUnmount(() => {
  sized.disconnect()
  cancelAnimationFrame(due)
})

// Looking for something goes through all rows, up from the last.
const hits = computed(() => {
  if (!looked.value || count.value < 0) return []
  const has = (text?: string) => text?.toLowerCase().includes(looked.value) ?? false
  return rows.rows.flatMap((r, i) => has(r.said?.text) || has(r.heard?.text) ? [i] : [])
})
const hit = ref(-1)
watch(looked, () => {
  hit.value = -1
  draw()
})
function jump(step: number) {
  if (!hits.value.length) return
  hit.value = hit.value < 0 ? hits.value.length - 1 : (hit.value + step + hits.value.length) % hits.value.length
  follows = false
  box.value!.scrollTop = hits.value[hit.value]! * height - view / 2
  draw()
}

const all = () => `${rows.rows.map(inText).join('\n')}\n`
const copied = ref(false)
async function copy() {
  try {
    await navigator.clipboard.writeText(all())
    copied.value = true
    window.setTimeout(() => { copied.value = false }, 2000)
  } catch { host.tell({ title: 'The browser does not let the page copy', detail: 'download it instead' }) }
}
function download() {
  const link = document.createElement('a')
  link.href = URL.createObjectURL(new Blob([all()], { type: 'text/plain' }))
  link.download = `wire-${new Date().toISOString().slice(0, 19).replaceAll(':', '')}.txt`
  link.click()
  URL.revokeObjectURL(link.href)
}

/** What the printer can hold, in words. */
const holds = computed(() => {
  const h = host.firmware?.holds
  if (!h) return ''
  if (h.how === 'measuring') return 'Measuring what the printer can hold…'
  const how = { assumed: 'as every board does; not measured yet', told: 'as its firmware tells', configured: 'as the configuration says', measured: 'measured' }[h.how]
  return `It holds ${h.bytes} bytes and ${h.lines} ${h.lines === 1 ? 'line' : 'lines'} besides: ${how}.`
})

/** The event of the link tells that a measurement has ended; until then it is asked for. */
async function measure() {
  if (!await host.measure()) return
  do {
    await new Promise(done => setTimeout(done, 500))
    if (!await host.attempt(host.refresh)) return
  } while (host.firmware?.holds.how === 'measuring')
}
</script>

<template>
  <Page title="Wire">
    <v-card class="wire d-flex flex-column">
      <div class="tools px-3 pt-3">
        <v-chip-group v-model="wanted" multiple column class="pa-0" aria-label="What is shown"><v-chip v-for="f in filters" :key="f.value" :value="f.value" filter size="small" :data-filter="f.value">{{ f.title }}</v-chip></v-chip-group>
        <v-text-field v-model="find" class="find" label="Find" :prepend-inner-icon="mdiMagnify" hide-details density="compact" clearable data-find @keydown.enter.prevent="jump(-1)" />
        <span v-if="looked" class="text-body-small figures" role="status" data-hits>{{ hits.length ? (hit < 0 ? `${hits.length} found` : `${hit + 1} of ${hits.length}`) : 'none' }}</span>
        <template v-if="looked">
          <v-btn :icon="mdiChevronUp" size="small" variant="text" aria-label="The one before" @click="jump(-1)" /><v-btn :icon="mdiChevronDown" size="small" variant="text" aria-label="The one behind" @click="jump(1)" />
        </template>
        <v-btn size="small" :variant="paused ? 'flat' : 'tonal'" :color="paused ? 'primary' : undefined" :prepend-icon="paused ? mdiPlay : mdiPause" :aria-pressed="paused" data-pause @click="pause">{{ paused ? (missed > 0 ? `Go on, ${missed} new` : 'Go on') : 'Pause' }}</v-btn>
        <v-btn size="small" variant="text" :icon="mdiContentCopy" :title="copied ? 'Copied' : 'Copy what is shown'" :aria-label="copied ? 'Copied' : 'Copy what is shown'" @click="copy" />
        <v-btn size="small" variant="text" :icon="mdiDownload" title="Save what is shown" aria-label="Save what is shown" @click="download" />
      </div>
      <div ref="box" class="traffic mono mt-2" role="log" aria-live="off" aria-label="Traffic between host and printer" tabindex="0" data-rows @scroll.passive="scrolled">
        <p v-if="empty" class="text-medium-emphasis pa-3">Nothing has been said yet. What the host and the printer say to each other appears here.</p>
        <span ref="letters" class="letters" aria-hidden="true">0123456789</span>
        <div ref="page" class="page" />
      </div>
      <v-divider />
      <Say />
      <div class="d-flex flex-wrap align-center px-3 pb-2 ga-2">
        <span v-if="holds" class="text-body-small text-medium-emphasis figures flex-grow-1" data-holds>{{ holds }}</span>
        <v-btn v-if="host.firmware?.holds.how === 'measured' || host.firmware?.holds.how === 'assumed'" variant="text" size="small" :prepend-icon="mdiRuler" :disabled="!host.live || host.going" title="Harmless lines behind a short pause, more and more until one is lost; the printer must be cold" @click="measure">Measure</v-btn>
        <v-btn variant="text" size="small" :prepend-icon="mdiDownload" :href="at('/v1/wire/recording')" title="Raw traffic, readings, positions and decisions, as one archive">Last ten minutes</v-btn>
      </div>
    </v-card>
  </Page>
</template>

<style scoped>
/* What bars and margins leave of the screen; the traffic takes what the rest of the card leaves. */
.wire { height: calc(100dvh - 64px - 40px); min-height: 460px; }
.tools { display: flex; flex-wrap: wrap; align-items: center; gap: 6px; }
.find { flex: 1 1 140px; max-width: 260px; }
.traffic { flex: 1 1 0; overflow-y: auto; background: rgb(var(--v-theme-surface)); overflow-anchor: none; contain: strict; } /* where it stands is ours to say: its rows change places */
.page { position: relative; overflow: hidden; }
.letters { position: absolute; visibility: hidden; }
/* What Sheet makes. */
.page :deep(.line) { position: absolute; left: 12px; right: 12px; height: 24px; line-height: 24px; contain: layout size style; white-space: pre; }
.page :deep([hidden]) { display: none; }
.page :deep(.said) { color: rgb(var(--v-theme-primary)); }
.page :deep(.wrong .heard) { color: rgb(var(--v-theme-error)); }
.page :deep(.hit) { background: rgba(var(--v-theme-primary), 0.14); }
.page :deep(mark) { background: rgb(var(--v-theme-warning)); color: rgb(var(--v-theme-on-warning)); }
@media (max-width: 959px) { .wire { height: calc(100dvh - 64px - 92px); } }
</style>
