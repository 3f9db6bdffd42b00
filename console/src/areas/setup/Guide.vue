<script setup lang="ts">
import { mdiCheckCircle, mdiAlertCircle, mdiProgressClock } from '@mdi/js'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { at } from '../../api/base'
import { settable } from '../../api/settable.gen'
import { useHost } from '../../live/host'
import { useMe } from '../../live/me'
import Notice from '../../ui/Notice.vue'
import Page from '../../ui/Page.vue'
import Panel from '../../ui/Panel.vue'
import { sentence } from '../../words/numbers'
import { filament, limits, size, tools } from './describe'
import { useDescribed } from './described'
import Name from './Name.vue'
import Numbers from './Numbers.vue'
import { about, usePorts } from './port'

/** Leads a person through describing the printer: a few steps, each of which can be left and taken up again. */
const host = useHost()
const me = useMe()
const router = useRouter()
const { described, draft, away, say, takeUp } = useDescribed()
const ports = usePorts()

const steps = ['Its cable', 'Its name', 'Its size', 'How hot it may get', 'Nozzle and filament', 'Ready'] as const
const step = ref(0)
const last = computed(() => step.value === steps.length - 1)
let begun = false
watch(described, now => { // where it was left
  if (begun || !now) return
  begun = true
  if (now.guide.state !== 'done') step.value = Math.min(now.guide.step ?? 0, steps.length - 1)
  draft.value = { ...draft.value, ...(now.guide.step ? {} : Object.fromEntries(Object.entries(now.told).filter(([key]) => now.by[key] === 'ordinary'))) }
})

/** Keeps what was said in this step and goes on to another. */
async function go(to: number) {
  const state = to >= steps.length ? 'done' : described.value!.guide.state
  if (!await say({ state, step: Math.min(Math.max(to, 1), steps.length - 1) })) return
  if (to < steps.length) {
    step.value = to
    if (to === steps.length - 1) await takeUp()
  } else await router.push('/bench')
}
async function choose(path: string) {
  draft.value = { ...draft.value, device: path }
  if (await say({ state: described.value!.guide.state, step: 1 })) await takeUp()
}
async function later() {
  if (await say({ state: described.value?.guide.state === 'done' ? 'done' : 'later', step: Math.max(step.value, 1) })) await router.push('/bench')
}
const protectedBy = computed(() => !me.me?.fresh)
</script>

<template>
  <Page title="Your printer" :loading="!described">
    <div class="guide">
      <ol class="steps" aria-label="Steps">
        <li v-for="(title, n) in steps" :key="title" :aria-current="n === step ? 'step' : undefined"><button type="button" @click="go(n)">{{ n + 1 }}<span class="word">&nbsp;{{ title }}</span></button></li>
      </ol>
      <Panel v-if="described" :title="steps[step]" data-guide>
        <div class="stack">
          <template v-if="step === 0">
            <Notice :color="host.live ? 'success' : 'info'" :icon="host.live ? mdiCheckCircle : mdiProgressClock" data-heard>{{ host.live ? `The printer answers${host.firmware?.machine ? `: it calls itself ${host.firmware.machine}` : ''}.` : sentence(host.link?.reason ?? '') }}</Notice>
            <p v-if="!host.live" class="mb-0">Switch the printer on and plug its cable into the computer that this host runs on. It is looked for every two seconds, and its baud rate is found.</p>
            <p v-if="!host.live && ports && !ports.length" class="mb-0 text-medium-emphasis">No port on USB is there. A cable for charging alone looks the same and carries no data: try another.</p>
            <template v-if="ports && ports.length > 1">
              <p class="mb-0">Several ports are there. Which one is it?</p>
              <v-radio-group :model-value="draft.device" hide-details :disabled="described.by.device === 'file'" @update:model-value="(p: unknown) => choose(String(p))">
                <v-radio v-for="p in ports" :key="p.path" :value="p.path"><template #label><div class="break"><span class="mono">{{ p.path }}</span><div class="text-body-small">{{ about(p) }}</div></div></template></v-radio>
              </v-radio-group>
            </template>
            <p v-if="described.by.device === 'file'" class="mb-0 text-body-small">Its port is decided in <code>diathermon.toml</code> or on the command line.</p>
          </template>
          <template v-else-if="step === 1">
            <p class="mb-0">Name and colour stand wherever this printer is meant, so that neighbours are not mixed up.</p>
            <Name v-model="draft" :described="described" />
          </template>
          <template v-else-if="step === 2">
            <p class="mb-0">How far do its axes go? Nothing is moved, and no file is started, beyond that.</p>
            <Numbers v-model="draft" :fields="size" :described="described" />
          </template>
          <template v-else-if="step === 3">
            <p class="mb-0">No setpoint above these is ever said, whoever asks. 0 is a heater that is not there. If you do not know better, leave them as they are: a nozzle with a liner of PTFE takes harm above 250 °C.</p>
            <Numbers v-model="draft" :fields="limits" :described="described" />
          </template>
          <template v-else-if="step === 4">
            <Numbers v-model="draft" :fields="tools" :described="described" />
            <p class="mb-0 text-body-small">Slots are where filament is loaded; 0 is as many as tools.</p>
            <Numbers v-model="draft" :fields="filament" :described="described" />
            <v-text-field v-model="draft.currency" label="Currency" :maxlength="settable.Description.currency.longest" :disabled="described.by.currency === 'file'" />
          </template>
          <template v-else>
            <Notice v-if="away" color="info" :icon="mdiProgressClock">The host begins anew with what you said. It is back in some seconds.</Notice>
            <Notice v-else-if="described.waits" color="info" :icon="mdiProgressClock">What you said is kept. It holds as soon as nothing is under way or heated.<template #beside><v-btn variant="outlined" @click="takeUp">Take it up now</v-btn></template></Notice>
            <Notice v-else color="success" :icon="mdiCheckCircle">{{ described.printer.name }} is described: {{ described.printer.width }} × {{ described.printer.depth }} × {{ described.printer.height }} mm, nozzle up to {{ described.printer.limit_nozzle }} °C.</Notice>
            <Notice v-if="!away" :color="host.live ? 'success' : 'warning'" :icon="host.live ? mdiCheckCircle : mdiAlertCircle">{{ host.live ? 'It answers.' : host.connected ? `It does not answer: ${host.link?.reason ?? ''}` : 'The host does not answer; trying again.' }}</Notice>
            <Notice :color="protectedBy ? 'success' : 'warning'" :icon="protectedBy ? mdiCheckCircle : mdiAlertCircle">{{ protectedBy ? 'It is protected: only who has an account or a token gets in.' : 'Nobody has an account here: who reaches the host with a link is in.' }}<template v-if="!protectedBy" #beside><v-btn variant="outlined" :href="at('/first-start')">Make yours</v-btn></template></Notice>
          </template>
          <div class="row">
            <v-btn v-if="step > 0" variant="text" @click="go(step - 1)">Back</v-btn>
            <v-spacer />
            <v-btn v-if="!last" variant="text" data-later @click="later">Later</v-btn>
            <v-btn variant="flat" color="primary" data-next @click="go(step + 1)">{{ last ? 'To the bench' : 'Next' }}</v-btn>
          </div>
        </div>
      </Panel>
    </div>
  </Page>
</template>

<style scoped>
.guide { max-width: 900px; display: grid; gap: 16px; grid-template-columns: minmax(0, 1fr); }
.steps { list-style: none; padding: 0; margin: 0; display: flex; flex-wrap: wrap; gap: 6px; }
@media (min-width: 1100px) { .steps { flex-wrap: nowrap; } .steps button { white-space: nowrap; } }
.steps button { min-height: 40px; min-width: 40px; padding: 4px 10px; border-radius: 20px; border: 1px solid rgba(var(--v-border-color), 0.4); background: none; color: inherit; cursor: pointer; font: inherit; }
.steps li[aria-current] button { background: rgb(var(--v-theme-primary)); color: rgb(var(--v-theme-on-primary)); border-color: transparent; }
@media (max-width: 599px) { .steps li:not([aria-current]) .word { display: none; } }
</style>
