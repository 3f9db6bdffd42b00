<script setup lang="ts">
import { mdiChevronLeft, mdiChevronRight, mdiDownload, mdiMagnifyMinus, mdiMagnifyPlus } from '@mdi/js'
import { computed, onMounted, ref, shallowRef, watch } from 'vue'
import { useRoute } from 'vue-router'

import { at } from '../../api/base'
import { answered, api, type Schemas } from '../../api/client'
import { useHost } from '../../live/host'
import { useIntervalFn } from '../../live/interval'
import Page from '../../ui/Page.vue'
import Panel from '../../ui/Panel.vue'
import { heaterName } from '../../words/heaters'
import { moment } from '../../words/time'
import Flow from './Flow.vue'
import Guards from './Guards.vue'
import Health from './Health.vue'
import Heater from './Heater.vue'
import Tuning from './Tuning.vue'
import WarmUps from './WarmUps.vue'
import { time, useHeatWindow, windows } from './window'
import Window, { type Ahead, type Overlay } from './Window.vue'

const host = useHost()
const win = useHeatWindow(() => Math.min(Math.max(Math.round(innerWidth), 300), 1500))
const ahead = shallowRef<Ahead[]>([])
const episodes = shallowRef<{ title: string, value: string, heater: string, at: number, took: number }[]>([])
const compared = ref<string>()
const overlay = shallowRef<Overlay>()
const saving = ref(false)
const nameOf = (h: string) => heaterName(h, host.printer?.tools)
const saved = (format: string) => at(`/v1/heat/export?${new URLSearchParams({ ...win.query(), format }).toString()}`)

const route = useRoute()
onMounted(async () => { // of a run that was looked for, or as it was left
  const from = Number(route.query['from']), to = Number(route.query['to'])
  if (to > from) win.show(from, to)
  await win.load()
})

/** Draws what is predicted while a heater warms up. */
useIntervalFn(async () => {
  if (!win.live.value || !host.heaters.some(h => h.ready_seconds)) {
    if (ahead.value.length > 0) ahead.value = []
    return
  }
  let models: Schemas['HeatModel'][]
  try {
    models = (await answered(api.GET('/v1/heat/models'))).models
  } catch { // the host is away for a moment, and says so elsewhere
    return
  }
  ahead.value = models.flatMap(m => m.curve && host.heaters.some(h => h.heater === m.heater && h.ready_seconds) ? [{ heater: m.heater, curve: m.curve, step: m.curve_step_seconds ?? 1 }] : [])
}, 2000)

/** Every warm-up that there is to compare with, the newest first; the quickest is named. */
async function loadEpisodes() {
  const found: typeof episodes.value = []
  for (const h of host.heaters) {
    const health = await answered(api.GET('/v1/heat/{heater}/health', { params: { path: { heater: h.heater } } }))
    const warm = health.episodes.filter(e => e.kind === 'warm-up')
    const best = warm.reduce((a, b) => (b.rise ?? 0) > (a?.rise ?? 0) ? b : a, warm[0])
    for (const e of warm.slice(-40).concat(best && !warm.slice(-40).includes(best) ? [best] : [])) {
      found.push({
        title: `${nameOf(h.heater)} to ${e.setpoint} °C, ${moment(e.at)}${e === best ? ' (the best)' : ''}`,
        value: `${h.heater} ${e.at}`, heater: h.heater, at: Date.parse(e.at) / 1000, took: e.took_seconds,
      })
    }
  }
  episodes.value = found.sort((a, b) => b.at - a.at)
}

/** Where a heater's newest warm-up in the window begins. */
const begins = computed(() => (heater: string) => {
  const set = (win.chart.value?.marks ?? []).filter((m: Schemas['HeatMark']) => m.kind === 'setpoint' && m.heater === heater && !m.text.endsWith(' to 0 °C'))
  return set.length > 0 ? Date.parse(set.at(-1)!.at) / 1000 : undefined
})

watch([compared, () => win.chart.value], async () => {
  const e = episodes.value.find(e => e.value === compared.value)
  if (!e) {
    overlay.value = undefined
    return
  }
  const shift = (begins.value(e.heater) ?? Date.parse(win.chart.value?.from ?? '') / 1000) - e.at
  if (overlay.value?.name === e.title && overlay.value.shift === shift) return
  await host.attempt(async () => {
    const found = await answered(api.GET('/v1/heat/chart', { params: { query: { from: time(e.at - 20), to: time(e.at + e.took + 300), heater: [e.heater], points: 600 } } }))
    overlay.value = { trace: found.traces[0]!, shift, name: e.title }
  })
})
</script>

<template>
  <Page title="Heat" :loading="!host.printer" :problem="win.problem.value">
    <div class="columns even"><Heater v-for="h in host.heaters" :key="h.heater" :heater="h" large /></div>
    <Panel title="Temperatures">
      <template #beside>
        <div class="d-flex">
          <v-btn :icon="mdiChevronLeft" variant="text" size="40" title="Earlier" aria-label="Earlier" @click="win.pan(-0.5)" />
          <v-btn :icon="mdiChevronRight" variant="text" size="40" title="Later" aria-label="Later" :disabled="win.live.value" @click="win.pan(0.5)" />
          <v-btn :icon="mdiMagnifyPlus" variant="text" size="40" title="Nearer: or draw over the chart" aria-label="Nearer" @click="win.zoom(0.5)" />
          <v-btn :icon="mdiMagnifyMinus" variant="text" size="40" title="Farther" aria-label="Farther" @click="win.zoom(2)" />
          <v-btn :icon="mdiDownload" variant="text" size="40" title="Save this window" aria-label="Save this window" :aria-expanded="saving" @click="saving = !saving" />
        </div>
      </template>
      <div class="d-flex flex-wrap ga-2 mb-3" role="group" aria-label="How much of the past">
        <v-btn v-for="w in windows" :key="w.seconds" size="small" :variant="win.live.value && win.length.value === w.seconds ? 'flat' : 'outlined'" :color="win.live.value && win.length.value === w.seconds ? 'primary' : undefined" :aria-pressed="win.live.value && win.length.value === w.seconds" @click="win.last(w.seconds)">{{ w.title }}</v-btn>
      </div>
      <p v-if="saving" class="d-flex flex-wrap ga-4 mb-3">
        <a v-for="f in ['csv', 'json', 'svg', 'png']" :key="f" :href="saved(f)">{{ f === 'csv' || f === 'json' ? 'Every reading' : 'Picture' }}, {{ f.toUpperCase() }}</a>
      </p>
      <Window v-if="win.chart.value" :chart="win.chart.value" :overlay="overlay" :ahead="ahead" @zoom="win.show" />
      <v-select v-model="compared" data-compare :items="episodes" label="Compare with an earlier warm-up" clearable class="mt-3" style="max-width: 460px" @update:menu="(open: boolean) => open && host.attempt(loadEpisodes)" />
      <details v-if="(win.chart.value?.marks.length ?? 0) > 0" class="mt-3 text-body-small">
        <summary>What happened in this window ({{ win.chart.value!.marks.length }})</summary>
        <ul class="ps-5 mt-1"><li v-for="(m, i) in win.chart.value!.marks.slice(-60)" :key="i" class="break">{{ moment(m.at) }}: {{ m.text }}</li></ul>
      </details>
    </Panel>
    <div class="columns even">
      <div class="stack">
        <WarmUps />
        <Flow />
      </div>
      <div class="stack">
        <Health />
        <Tuning />
      </div>
    </div>
    <Guards />
  </Page>
</template>
