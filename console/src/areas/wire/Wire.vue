<script setup lang="ts">
import { mdiDownload, mdiRuler, mdiSend } from '@mdi/js'
import { computed, nextTick, onMounted, ref, useTemplateRef, watch } from 'vue'

import { at } from '../../api/base'
import { answered, api } from '../../api/client'
import { useHost } from '../../live/host'
import { useTraffic } from '../../live/traffic'
import Page from '../../ui/Page.vue'
import { clock } from '../../words/time'

const host = useHost()
const traffic = useTraffic()
const line = ref('')
const busy = ref(false)
const reports = ref(false)
const said: string[] = []
let recalled = 0
const box = useTemplateRef<HTMLDivElement>('box')

const shown = computed(() => reports.value ? [...traffic.talk, ...traffic.reports].sort((a, b) => a.seq - b.seq) : traffic.talk)

watch(shown, async () => {
  const el = box.value
  if (!el || el.scrollTop + el.clientHeight < el.scrollHeight - 60) return // the person is reading further up
  await nextTick()
  el.scrollTop = el.scrollHeight
})
onMounted(() => nextTick(() => box.value?.scrollTo(0, box.value.scrollHeight)))

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

async function say() {
  const text = line.value.trim()
  if (!text) return
  busy.value = true
  if (await host.attempt(() => answered(api.POST('/v1/wire', { body: { line: text } })))) {
    said.push(text)
    recalled = said.length
    line.value = ''
  }
  busy.value = false
}

function recall(step: number) {
  recalled = Math.min(Math.max(recalled + step, 0), said.length)
  line.value = said[recalled] ?? ''
}
</script>

<template>
  <Page title="Wire">
    <v-card class="wire d-flex flex-column">
      <div ref="box" class="traffic mono pa-3" role="log" aria-live="off" aria-label="Traffic between host and printer" tabindex="0">
        <p v-if="shown.length === 0" class="text-medium-emphasis">Nothing has been said yet. What the host and the printer say to each other appears here.</p>
        <div v-for="l in shown" :key="l.seq" class="d-flex ga-2" :class="l.sent ? 'sent' : ''">
          <span class="text-medium-emphasis d-none d-sm-inline">{{ clock(l.at, true) }}</span>
          <span :aria-label="l.sent ? 'said' : 'heard'" role="img">{{ l.sent ? '→' : '←' }}</span>
          <span class="break">{{ l.text }}</span>
        </div>
      </div>
      <v-divider />
      <form class="d-flex align-center ga-2 pa-3" @submit.prevent="say">
        <v-text-field
          v-model="line" label="Say a line of G-code" placeholder="M115" autocapitalize="characters" autocomplete="off" spellcheck="false" class="mono"
          @keydown.up.prevent="recall(-1)" @keydown.down.prevent="recall(1)"
        />
        <v-btn type="submit" color="primary" variant="flat" height="40" :icon="mdiSend" rounded="lg" :loading="busy" :disabled="!host.live" title="Say it" aria-label="Say it" />
      </form>
      <div class="d-flex flex-wrap align-center px-3 pb-2 ga-2">
        <v-checkbox v-model="reports" label="Show reports and other upkeep" density="compact" hide-details class="flex-grow-1" />
        <span v-if="holds" class="text-body-small text-medium-emphasis figures" data-holds>{{ holds }}</span>
        <v-btn v-if="host.firmware?.holds.how === 'measured' || host.firmware?.holds.how === 'assumed'" variant="text" size="small" :prepend-icon="mdiRuler" :disabled="!host.live || host.going" title="Harmless lines behind a short pause, more and more until one is lost; the printer must be cold" @click="measure">Measure</v-btn>
        <v-btn variant="text" size="small" :prepend-icon="mdiDownload" :href="at('/v1/wire/recording')" title="Raw traffic, readings, positions and decisions, as one archive">Last ten minutes</v-btn>
      </div>
    </v-card>
  </Page>
</template>

<style scoped>
/* What bars and margins leave of the screen; the traffic takes what the rest of the card leaves. */
.wire { height: calc(100dvh - 64px - 40px); min-height: 460px; }
.traffic { flex: 1 1 0; overflow-y: auto; }
@media (max-width: 959px) { .wire { height: calc(100dvh - 64px - 92px); } }
.sent { color: rgb(var(--v-theme-primary)); }
</style>
