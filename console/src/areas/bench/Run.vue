<script setup lang="ts">
import { mdiBellRing, mdiDownload, mdiPause, mdiPlay, mdiPrinter3d, mdiStop, mdiTune } from '@mdi/js'
import { computed, defineAsyncComponent, onMounted, ref, watch } from 'vue'

import { at } from '../../api/base'
import { api, type Schemas } from '../../api/client'
import { useCalls } from '../../live/calls'
import { useHost } from '../../live/host'
import { useIntervalFn } from '../../live/interval'
import { useMe } from '../../live/me'
import Figure from '../../ui/Figure.vue'
import Paced from '../../ui/Paced.vue'
import Panel from '../../ui/Panel.vue'
import State from '../../ui/State.vue'
import { sentence } from '../../words/numbers'
import { runStates } from '../../words/states'
import { soon, span } from '../../words/time'
import Picture from '../shelf/Picture.vue'
import Bed from './Bed.vue'

/** What is asked, and its steps, come when they are wanted. */
const Ask = defineAsyncComponent(() => import('../../ui/Ask.vue'))
const PickUp = defineAsyncComponent(() => import('./PickUp.vue'))
const Adjust = defineAsyncComponent(() => import('./Adjust.vue'))
const host = useHost()
const me = useMe()
const calls = useCalls()
const adjusting = ref(false)
const asking = ref(false)
const picking = ref(false)
const now = ref(Date.now())
useIntervalFn(() => { now.value = Date.now() }, 1000)

watch(() => host.going, going => { if (going && !calls.why) calls.load().catch(() => undefined) }, { immediate: true })

/** The run that goes on, or the last one: also that of before the host was started. */
const past = ref<Schemas['Run']>()
onMounted(() => { if (!host.run) api.GET('/v1/runs', { params: { query: { limit: 1 } } }).then(({ data }) => { past.value = data?.runs[0] }, () => undefined) })
const run = computed(() => host.run ?? past.value)
const shown = computed(() => runStates[run.value?.state ?? 'waiting'])
const interrupted = computed(() => run.value !== undefined && !run.value.over && !run.value.going)
const may = (act: NonNullable<Schemas['Run']['may']>[number]) => run.value?.may?.includes(act) ?? false
const share = computed(() => (run.value?.progress?.share ?? 0) * 100)
const told = ref(Date.now()) // when the run was told last, by this browser's clock, which need not agree with the host's
watch(run, () => { told.value = now.value = Date.now() })
const elapsed = computed(() => !run.value?.started ? 0 : run.value.lasted_seconds + (run.value.ended ? 0 : (now.value - told.value) / 1000))
const left = computed(() => Math.max((run.value?.progress?.left_seconds ?? 0) - (now.value - told.value) / 1000, 0))

const adjustable = computed(() => me.may('operate') && ['warming', 'running', 'held'].includes(run.value?.state ?? ''))

/** What a person wants to know first: when it will be done, or what has become of it. */
const outlook = computed(() => {
  const r = run.value
  if (!r) return { large: 'Nothing is being printed', small: '' }
  if (r.state === 'held') return { large: 'Held', small: `${span(left.value)} to go when it is resumed` }
  if (r.state === 'interrupted') return { large: 'Interrupted', small: `at ${share.value.toFixed(1)} %` }
  if (r.state === 'ending') return { large: 'Ending', small: '' }
  if (r.over) return { large: r.ended ? `${sentence(r.state)} at ${soon(r.ended)}` : sentence(r.state), small: `after ${span(elapsed.value)}` }
  const warming = r.state === 'warming' || r.state === 'waiting'
  return { large: `Done at ${soon(told.value + (r.progress?.left_seconds ?? 0) * 1000)}`, small: `${warming ? 'warming, ' : ''}${span(left.value)} to go` }
})
</script>

<template>
  <Panel data-run :data-state="run?.state">
    <div class="d-flex align-start justify-space-between ga-3">
      <h2 class="outlook text-headline-large figures">{{ outlook.large }}</h2>
      <State v-if="run" :shown="shown" class="mt-3" data-run-state />
    </div>
    <p v-if="!run" class="text-medium-emphasis mt-1 mb-0">Choose a file on the <router-link to="/shelf">shelf</router-link>.</p>
    <template v-else>
      <p class="text-title-medium text-medium-emphasis figures mb-3">{{ outlook.small }}&nbsp;</p>
      <div class="d-flex align-center ga-3 mb-2">
        <router-link class="part" :to="`/shelf/${encodeURIComponent(run.file)}`" :title="`The layers of ${run.file}`" :aria-label="`The layers of ${run.file}`"><Picture :file="{ name: run.file, digest: run.digest }" :size="256" /></router-link>
        <p class="break mb-0">{{ run.file }}</p>
      </div>
      <p v-if="run.reason" class="mb-2 break" data-run-reason>{{ sentence(run.reason) }}</p>
      <p v-if="interrupted && !run.needs_plan" class="mb-2 text-medium-emphasis">As soon as the printer is back it is asked whether it has kept its place.</p>
      <v-progress-linear v-if="run.progress" :model-value="share" :indeterminate="run.state === 'warming'" :color="shown.color" height="10" rounded :aria-label="run.state === 'warming' ? 'Warming' : 'Printed so far'" />
      <dl v-if="run.progress" class="facts mt-4">
        <Figure name="Done">{{ run.state === 'warming' ? 'warming' : `${share.toFixed(1)} %` }}</Figure>
        <Figure name="Layer">{{ run.progress.layer }} of {{ run.progress.layers }}</Figure>
        <Figure name="Height">{{ run.progress.z.toFixed(2) }} mm</Figure>
        <Figure :name="run.over ? 'Took' : 'Elapsed'">{{ span(elapsed) }}</Figure>
        <Figure v-if="run.state === 'finished' && run.estimate_seconds" name="Moves, computed">{{ span(run.estimate_seconds) }}<Paced :seconds="run.estimate_seconds" /></Figure>
        <Figure v-if="!run.over && run.progress.warm_seconds" name="Warm in">{{ span(run.progress.warm_seconds) }}</Figure>
      </dl>
      <p v-if="run.differs && !run.over" class="mt-3 mb-0" data-differs>Not as sliced: {{ run.differs }}</p>
      <p v-if="run.until && !run.over" class="mt-2 mb-0 d-flex flex-wrap align-center ga-2" data-until>
        {{ run.until.end ? `Ends after layer ${run.until.layer - 1}` : `Is held before layer ${run.until.layer}` }}, as {{ run.until.by }} wants
        <v-btn v-if="adjustable" variant="text" size="small" @click="host.onward()">Go on to the end</v-btn>
      </p>
      <div class="d-flex flex-wrap ga-3 mt-4">
        <template v-if="interrupted">
          <v-btn variant="flat" color="primary" size="large" :prepend-icon="mdiPlay" :disabled="!may('pick-up') || !host.live" @click="picking = true">Pick up…</v-btn>
          <v-btn variant="outlined" size="large" :prepend-icon="mdiStop" @click="asking = true">Give up</v-btn>
        </template>
        <template v-else-if="!run.over">
          <v-btn v-if="may('resume')" variant="flat" color="primary" size="large" :prepend-icon="mdiPlay" @click="host.control('resume')">Resume</v-btn>
          <v-btn v-else variant="flat" color="primary" size="large" :prepend-icon="mdiPause" :disabled="!may('hold')" @click="host.control('hold')">Hold</v-btn>
          <v-btn variant="outlined" size="large" :prepend-icon="mdiStop" :disabled="!may('stop')" @click="asking = true">Stop</v-btn>
          <v-btn v-if="adjustable" variant="text" size="large" :prepend-icon="mdiTune" :aria-expanded="adjusting" data-adjusting @click="adjusting = !adjusting">Adjust</v-btn>
        </template>
        <v-btn v-if="run.over && me.may('start')" variant="tonal" size="large" :prepend-icon="mdiPrinter3d" :to="{ path: '/shelf', query: { start: run.file } }" data-again>Print it again</v-btn>
        <v-btn v-if="interrupted || run.over && run.state !== 'finished'" variant="text" size="large" :prepend-icon="mdiDownload" :href="at(`/v1/runs/${run.id}/recording`)">Recording</v-btn>
      </div>
    </template>
    <p v-if="host.going && !calls.why && !calls.called && !calls.asked" class="mt-4 mb-0 d-flex flex-wrap align-center ga-2" data-offer>
      <v-btn variant="text" :prepend-icon="mdiBellRing" @click="calls.call('this browser')">Tell me here when it is done</v-btn>
      <v-btn variant="text" size="small" @click="calls.asked = true">No</v-btn>
    </p>
    <Adjust v-if="adjusting && adjustable" />
    <Bed v-if="!host.going && !interrupted" class="mt-4" />
    <Ask v-if="asking" v-model="asking" :title="interrupted ? 'Give this run up?' : 'Stop this run?'" :no="interrupted ? 'Keep it' : 'Keep printing'" :yes="interrupted ? 'Give it up' : 'Stop it'" @yes="host.control('stop')">
      {{ run?.file }} cannot be carried on afterwards. Heaters and fan are turned off.
    </Ask>
    <PickUp v-if="picking" v-model="picking" />
  </Panel>
</template>

<style scoped>
.outlook { font-weight: 600; line-height: 1.15; }
.part { flex: 0 0 84px; height: 84px; }
.facts { display: grid; grid-template-columns: repeat(auto-fill, minmax(104px, 1fr)); gap: 12px 16px; }
</style>
