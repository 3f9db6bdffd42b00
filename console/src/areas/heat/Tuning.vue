<script setup lang="ts">
import { computed, onMounted, ref } from 'vue'

import { answered, api, type Schemas } from '../../api/client'
import { useHost } from '../../live/host'
import { useIntervalFn } from '../../live/interval'
import NumberField from '../../ui/NumberField.vue'
import Panel from '../../ui/Panel.vue'
import { heaterName } from '../../words/heaters'

const host = useHost()
const tuning = ref<Schemas['Tuning']>()
const heater = ref('nozzle0')
const setpoint = ref<number>()
const nameOf = (h: string) => heaterName(h, host.printer?.tools)
const choices = computed(() => host.heaters.map(h => ({ title: nameOf(h.heater), value: h.heater })))
const going = computed(() => tuning.value !== undefined && tuning.value.ended === undefined)

/** Asks how the last tuning stands. That there was none, or that the host is away for a moment, is no news. */
async function load() {
  try {
    tuning.value = await answered(api.GET('/v1/heat/tuning'))
  } catch { /* it is asked again */ }
}
onMounted(load)
useIntervalFn(() => { if (going.value) void load() }, 2000)

const tune = () => host.attempt(async () => {
  tuning.value = await answered(api.POST('/v1/heat/{heater}/tuning', { params: { path: { heater: heater.value } }, body: { setpoint: setpoint.value ?? 0, cycles: 8 } }))
})
const apply = (save: boolean) => host.attempt(async () => {
  await answered(api.POST('/v1/heat/tuning/apply', { body: { save } }))
  await load()
})
</script>

<template>
  <Panel title="Tune a heater's PID" data-tuning>
    <div v-if="going" class="mb-2">
      <p class="mb-2">The {{ nameOf(tuning!.heater).toLowerCase() }} is being tuned at {{ tuning!.setpoint }} °C: cycle {{ tuning!.cycle }} of {{ tuning!.cycles }}.</p>
      <v-progress-linear :model-value="100 * tuning!.cycle / tuning!.cycles" color="primary" rounded height="6" aria-label="Cycles done" />
    </div>
    <template v-else>
      <form class="d-flex flex-wrap ga-3 align-start" @submit.prevent="tune">
        <v-select v-model="heater" :items="choices" label="Heater" style="min-width: 130px" />
        <NumberField v-model="setpoint" label="At" unit="°C" :least="1" :most="host.heaters.find(h => h.heater === heater)?.limit" style="min-width: 110px" />
        <v-btn type="submit" variant="tonal" color="primary" height="40" :disabled="setpoint === undefined || !host.live || host.going">Tune</v-btn>
      </form>
      <p v-if="tuning?.failed" class="mt-3 mb-0 text-error break">{{ tuning.failed }}</p>
      <div v-else-if="tuning?.found" class="mt-3">
        <p class="mb-2 figures">The {{ nameOf(tuning.heater).toLowerCase() }} at {{ tuning.setpoint }} °C: P {{ tuning.p.toFixed(2) }}, I {{ tuning.i.toFixed(2) }}, D {{ tuning.d.toFixed(2) }}. {{ tuning.saved ? 'The firmware keeps them.' : tuning.applied ? 'The firmware has them until it is restarted.' : 'The firmware does not have them yet.' }}</p>
        <p v-if="tuning.ripple_before !== undefined" class="mb-2 text-body-small text-medium-emphasis">Held before, it swung by {{ tuning.ripple_before.toFixed(2) }} K.<template v-if="tuning.ripple_after !== undefined"> Since then, by {{ tuning.ripple_after.toFixed(2) }} K.</template></p>
        <div class="d-flex flex-wrap ga-2">
          <v-btn variant="outlined" :disabled="!host.live || tuning.applied" @click="apply(false)">Use them now</v-btn>
          <v-btn variant="outlined" :disabled="!host.live || tuning.saved" @click="apply(true)">Keep them for good</v-btn>
        </div>
      </div>
    </template>
  </Panel>
</template>
