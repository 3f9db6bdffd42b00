<script setup lang="ts">
import { mdiArrowLeft, mdiCheckCircle, mdiDramaMasks, mdiStop } from '@mdi/js'
import { computed, onMounted, ref } from 'vue'
import { useRoute } from 'vue-router'

import { answered, api, inWords, type Problem, type Schemas } from '../../api/client'
import { useHost } from '../../live/host'
import { useIntervalFn } from '../../live/interval'
import Chart from '../../ui/Chart.vue'
import type { Line, Scene } from '../../ui/chart'
import Figure from '../../ui/Figure.vue'
import Notice from '../../ui/Notice.vue'
import Page from '../../ui/Page.vue'
import Panel from '../../ui/Panel.vue'
import { guardActions, guardClaims } from '../../words/guards'
import { heaterName } from '../../words/heaters'
import { sentence } from '../../words/numbers'
import { checkLevels, runStates } from '../../words/states'
import { countdown, soon, span } from '../../words/time'

/** A file on the stand-in printer: how far that is, and what came of it. */
const host = useHost()
const route = useRoute()
const name = computed(() => String(route.params.name))
const path = computed(() => ({ params: { path: { name: name.value } } }))
const found = ref<Schemas['Rehearsal']>()
const never = ref(false) // it was not rehearsed
const problem = ref('')

const goes = computed(() => found.value?.state === 'waiting' || found.value?.state === 'rehearsing')
const report = computed(() => found.value?.report)
const order = { block: 0, warn: 1, note: 2 }
const problems = computed(() => [...report.value?.problems ?? []].sort((a, b) => order[a.level] - order[b.level]))
const limits = { printer: 'the printer’s own limits', setup: 'the limits in Setup', ordinary: 'a common machine’s limits' }
const lengths = computed(() => report.value?.states.filter(s => s.seconds > 0) ?? [])
const asks = computed(() => report.value?.states.find(s => s.state === 'held')?.times ?? 0)
const heaters = computed(() => report.value?.learned.map(h => heaterName(h, host.printer?.tools).toLowerCase()).join(' and '))

async function load() {
  try {
    found.value = await answered(api.GET('/v1/shelf/{name}/rehearsal', path.value))
    never.value = !found.value
  } catch (p) {
    problem.value = inWords(p as Problem)
  }
}
onMounted(load)
useIntervalFn(() => { if (goes.value) void load() }, 400)

const begin = () => host.attempt(async () => {
  found.value = await answered(api.POST('/v1/shelf/{name}/rehearsal', path.value))
  never.value = false
})
const stop = () => host.attempt(async () => {
  await answered(api.DELETE('/v1/shelf/{name}/rehearsal', path.value))
  await load()
})

const scene = computed<Scene>(() => {
  const from = new Date(found.value?.asked ?? 0).getTime() / 1000
  const lines = (report.value?.heat ?? []).flatMap((t): Line[] => {
    const at = t.at.map(ms => ms / 1000)
    const bed = t.heater === 'bed'
    const title = heaterName(t.heater, host.printer?.tools)
    return [
      { name: title, at, values: t.mean, low: t.low, high: t.high, width: bed ? 3 : 1.75 },
      { name: `${title} set`, at, values: t.setpoint.map(v => v || null), width: 1.25, dash: bed ? [10, 5] : [4, 4], quiet: true },
    ]
  })
  return { lines, from, to: from + (report.value?.seconds ?? 0), unit: '°C', ticks: report.value?.alarms.map(a => ({ at: from + a.after_seconds, strong: true })) }
})
</script>

<template>
  <Page title="Rehearsal" :loading="!found && !never" :problem="problem">
    <div class="head">
      <v-btn variant="text" :icon="mdiArrowLeft" to="/shelf" title="Back to the shelf" aria-label="Back to the shelf" />
      <h2 class="text-title-large break">{{ name }}</h2>
    </div>
    <Panel v-if="!report || goes" data-rehearsal>
      <template v-if="goes && found">
        <p class="big figures mb-2">{{ found.state === 'waiting' ? 'waits for another rehearsal' : `${(found.share * 100).toFixed(0)} %` }}</p>
        <v-progress-linear :model-value="found.share * 100" :indeterminate="found.state === 'waiting'" color="primary" height="8" rounded aria-label="Rehearsed so far" />
        <p class="figures text-medium-emphasis my-2">Line {{ found.line }}; the stand-in printer has been at it for {{ countdown(found.clock_seconds) }} by its own clock.</p>
        <v-btn variant="tonal" :prepend-icon="mdiStop" @click="stop">Stop the rehearsal</v-btn>
      </template>
      <template v-else>
        <Notice v-if="found?.state === 'broken'" class="mb-3" :color="checkLevels.block.color" :icon="checkLevels.block.icon"><span role="alert">{{ sentence(found.reason ?? '') }}.</span></Notice>
        <p v-else-if="found?.state === 'stopped'" class="mb-3">The rehearsal was stopped.</p>
        <p class="mb-3">A rehearsal lets the stand-in printer carry out the whole file in its own time, with this printer’s limits and with heaters that behave as this printer’s do. Nothing is said to {{ host.printer?.name ?? 'the printer' }}.</p>
        <v-btn variant="flat" color="primary" :prepend-icon="mdiDramaMasks" @click="begin">Rehearse it</v-btn>
      </template>
    </Panel>
    <template v-if="report && !goes && found">
      <Panel data-rehearsal>
        <div class="first">
          <div>
            <p class="text-medium-emphasis mb-0">From the first line to the last move</p>
            <p class="big figures mb-0">{{ span(report.seconds) }}</p>
          </div>
          <dl class="facts">
            <Figure name="First plastic after">{{ report.laying_seconds ? countdown(report.laying_seconds) : '–' }}</Figure>
            <Figure name="Homing">{{ countdown(report.homing_seconds) }}</Figure>
            <Figure v-if="report.dwelling_seconds" name="Waiting for a time">{{ countdown(report.dwelling_seconds) }}</Figure>
            <Figure v-if="report.starved_seconds" name="Lost on the cable">{{ countdown(report.starved_seconds) }}</Figure>
            <Figure v-if="asks" name="Asks for a person">{{ asks === 1 ? 'once' : `${asks} times` }}</Figure>
          </dl>
        </div>
        <div class="lengths" aria-hidden="true">
          <div v-for="s in lengths" :key="s.state" class="length" :class="s.state" :style="{ flexGrow: s.seconds }" />
        </div>
        <ul class="states figures">
          <li v-for="s in lengths" :key="s.state"><v-icon :icon="runStates[s.state].icon" size="18" aria-hidden="true" /> {{ runStates[s.state].word }} {{ span(s.seconds) }}</li>
        </ul>
        <p class="text-body-small text-medium-emphasis mb-0">
          Rehearsed {{ soon(found.asked) }}, by {{ limits[report.limits] }}; {{ heaters ? `${heaters} as learned from this printer` : 'heaters as a common printer’s' }}.
          <v-btn size="small" variant="text" :prepend-icon="mdiDramaMasks" @click="begin">Once more</v-btn>
        </p>
      </Panel>
      <Panel title="What was found">
        <p v-if="!problems.length" class="quiet mb-0"><v-icon :icon="mdiCheckCircle" color="success" aria-hidden="true" /> No problem: the stand-in has carried out all {{ report.commands }} commands.</p>
        <Notice v-for="f in problems" :key="f.title" class="mb-2" :color="checkLevels[f.level].color" :icon="checkLevels[f.level].icon">
          <strong>{{ sentence(f.title) }}.</strong> {{ sentence(f.do) }}. <span class="text-medium-emphasis figures">Line {{ f.line }}<template v-if="f.count > 1"> and {{ f.count - 1 }} more</template>.</span>
        </Notice>
      </Panel>
      <Panel title="What the guards would say">
        <p v-if="!report.alarms.length" class="quiet mb-0"><v-icon :icon="mdiCheckCircle" color="success" aria-hidden="true" /> Nothing: the heaters stay within what they have shown.</p>
        <Notice v-for="a in report.alarms" :key="a.after_seconds + a.guard" class="mb-2" :color="a.action === 'tell' ? 'warning' : 'alarm'" :icon="checkLevels.warn.icon">
          <strong>{{ sentence(a.text) }}.</strong> {{ guardClaims[a.guard] }}: it {{ guardActions[a.action] }}. <span class="text-medium-emphasis figures">After {{ countdown(a.after_seconds) }}, at line {{ a.line }}.</span>
        </Notice>
        <p v-if="report.more_alarms" class="mb-0">And {{ report.more_alarms }} more.</p>
      </Panel>
      <Panel title="How hot it becomes">
        <Chart :scene="scene" :height="260" label="Predicted temperatures, as if it had been started when it was rehearsed" empty="Nothing was heated." />
      </Panel>
    </template>
  </Page>
</template>

<style scoped>
.head { display: flex; align-items: center; gap: 8px; min-width: 0; }
.big { font-size: clamp(2rem, 6vw, 3rem); font-weight: 600; line-height: 1.15; }
.first { display: flex; flex-wrap: wrap; gap: 12px 40px; align-items: end; }
.facts { display: flex; flex-wrap: wrap; gap: 8px 28px; margin: 0; }
.lengths { display: flex; gap: 2px; height: 14px; margin: 16px 0 8px; border-radius: 7px; overflow: hidden; }
.length { min-width: 4px; background: rgb(var(--v-theme-secondary)); }
.length.warming { background: rgb(var(--v-theme-primary)); }
.length.running { background: rgb(var(--v-theme-success)); }
.states { list-style: none; display: flex; flex-wrap: wrap; gap: 4px 20px; padding: 0; margin: 0 0 12px; }
.quiet { display: flex; gap: 8px; align-items: center; }
</style>
