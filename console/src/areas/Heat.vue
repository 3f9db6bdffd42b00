<script setup lang="ts">
import { mdiChevronLeft, mdiChevronRight, mdiDownload, mdiMagnifyMinus, mdiMagnifyPlus } from '@mdi/js'
import { computed, onMounted, ref, shallowRef, watch } from 'vue'

import { answered, api, type Schemas } from '../api/client'
import { time, useHeatWindow, windows } from '../live/heatWindow'
import { useHost } from '../live/host'
import { useIntervalFn } from '../live/interval'
import { heaterName } from '../live/words'
import AlarmList from '../parts/AlarmList.vue'
import HealthCard from '../parts/HealthCard.vue'
import HeaterCard from '../parts/HeaterCard.vue'
import HeatWindow, { type Ahead, type Overlay } from '../parts/HeatWindow.vue'
import TuningCard from '../parts/TuningCard.vue'
import WarmUpCard from '../parts/WarmUpCard.vue'

const host = useHost()
const win = useHeatWindow(() => Math.min(Math.max(Math.round(innerWidth), 300), 1500))
const ahead = shallowRef<Ahead[]>([])
const episodes = shallowRef<{ title: string, value: string, heater: string, at: number, took: number }[]>([])
const compared = ref<string>()
const overlay = shallowRef<Overlay>()
const nameOf = (h: string) => heaterName(h, host.printer?.tools ?? 1)
const saved = (format: string) => `/v1/heat/export?${new URLSearchParams({ ...win.query(), format }).toString()}`

onMounted(win.load)

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
        title: `${nameOf(h.heater)} to ${e.setpoint} °C, ${new Date(e.at).toLocaleString([], { dateStyle: 'short', timeStyle: 'short', hourCycle: 'h23' })}${e === best ? ' (the best)' : ''}`,
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
  <AlarmList />
  <v-card class="mb-4">
    <v-card-text>
      <div class="d-flex flex-wrap align-center ga-2 mb-3">
        <v-chip-group :model-value="win.live.value ? win.length.value : undefined" color="primary" aria-label="Window" column>
          <v-chip v-for="w in windows" :key="w.seconds" :value="w.seconds" size="small" variant="outlined" @click="win.last(w.seconds)">{{ w.title }}</v-chip>
        </v-chip-group>
        <v-spacer />
        <div class="d-flex">
          <v-btn :icon="mdiChevronLeft" variant="text" size="40" title="Earlier" @click="win.pan(-0.5)" />
          <v-btn :icon="mdiChevronRight" variant="text" size="40" title="Later" :disabled="win.live.value" @click="win.pan(0.5)" />
          <v-btn :icon="mdiMagnifyPlus" variant="text" size="40" title="Nearer: or draw over the chart" @click="win.zoom(0.5)" />
          <v-btn :icon="mdiMagnifyMinus" variant="text" size="40" title="Farther" @click="win.zoom(2)" />
          <v-menu>
            <template #activator="{ props }"><v-btn v-bind="props" :icon="mdiDownload" variant="text" size="40" title="Save this window" /></template>
            <v-list density="compact">
              <v-list-item v-for="f in ['csv', 'json', 'svg', 'png']" :key="f" :href="saved(f)" :title="f === 'csv' || f === 'json' ? `Every reading, ${f.toUpperCase()}` : `Picture, ${f.toUpperCase()}`" />
            </v-list>
          </v-menu>
        </div>
      </div>
      <v-alert v-if="win.problem.value" type="error" variant="tonal" class="mb-3">{{ win.problem.value }}</v-alert>
      <HeatWindow v-if="win.chart.value" :chart="win.chart.value" :overlay="overlay" :ahead="ahead" @zoom="win.show" />
      <v-select v-model="compared" data-compare :items="episodes" label="Compare with an earlier warm-up" variant="outlined" density="compact" hide-details clearable class="mt-3" style="max-width: 460px" @update:menu="(open: boolean) => open && host.attempt(loadEpisodes)" />
      <details v-if="(win.chart.value?.marks.length ?? 0) > 0" class="mt-3 text-body-small">
        <summary>What happened in this window ({{ win.chart.value!.marks.length }})</summary>
        <ul class="ps-5 mt-1"><li v-for="(m, i) in win.chart.value!.marks.slice(-60)" :key="i" class="break">{{ new Date(m.at).toLocaleString([], { dateStyle: 'short', timeStyle: 'medium', hourCycle: 'h23' }) }} — {{ m.text }}</li></ul>
      </details>
    </v-card-text>
  </v-card>
  <v-row density="comfortable">
    <v-col cols="12" md="6">
      <HeaterCard v-for="h in host.heaters" :key="h.heater" :heater="h" class="mb-4" />
      <v-card title="Does filament flow?" data-flow>
        <v-card-text>
          <p v-if="host.flow?.watch === 'off'" class="mb-0">The flow is not watched; <code>flow</code> in <code>[heat]</code> of the configuration turns it on.</p>
          <p v-else-if="!host.going" class="mb-0 text-medium-emphasis">Told from the nozzle's duty while a file is printed.</p>
          <p v-else-if="host.flow?.stopped" class="mb-0 text-error">Nothing flows, and the file asks for {{ host.flow.asked.toFixed(1) }} mm³/s.</p>
          <p v-else-if="host.flow?.seen === undefined" class="mb-0">The file asks for {{ host.flow?.asked.toFixed(1) ?? 0 }} mm³/s: too little to tell from the duty, or the nozzle is not known well enough yet.</p>
          <p v-else class="mb-0">About {{ host.flow.seen.toFixed(1) }} of the {{ host.flow.asked.toFixed(1) }} mm³/s that the file asks for.</p>
        </v-card-text>
      </v-card>
    </v-col>
    <v-col cols="12" md="6">
      <WarmUpCard class="mb-4" />
      <HealthCard class="mb-4" />
      <TuningCard />
    </v-col>
  </v-row>
</template>
