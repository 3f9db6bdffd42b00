<script setup lang="ts">
import { mdiPowerStandby } from '@mdi/js'
import { computed, ref } from 'vue'

import type { Schemas } from '../../api/client'
import { useHost } from '../../live/host'
import NumberField from '../../ui/NumberField.vue'
import Panel from '../../ui/Panel.vue'
import State from '../../ui/State.vue'
import Temperature from '../../ui/Temperature.vue'
import { heaterName } from '../../words/heaters'
import { heaterStates, unknownHeater } from '../../words/states'
import { countdown } from '../../words/time'

const { heater, large = false } = defineProps<{ heater: Schemas['Heater'], large?: boolean }>()
const host = useHost()
const wanted = ref<number>()
const busy = ref(false)
const name = computed(() => heaterName(heater.heater, host.printer?.tools))
const known = computed(() => heater.actual !== undefined)

const outlook = computed(() => {
  if (host.heatAge > 10) return `told ${countdown(host.heatAge)} ago`
  if (heater.never) return 'does not get there at full duty'
  if (heater.ready_seconds) {
    const give = ((heater.ready_latest_seconds ?? 0) - (heater.ready_soonest_seconds ?? 0)) / 2
    return `ready in ${countdown(heater.ready_seconds)}${give >= 5 ? ` ± ${countdown(give)}` : ''}`
  }
  if (heater.soak?.there && !heater.soak.done) return heater.soak.left_seconds === undefined ? 'soaking' : `soaking, ${countdown(heater.soak.left_seconds)} left`
  return ''
})

async function set(setpoint: number) {
  const typed = wanted.value
  busy.value = true
  wanted.value = undefined // what is typed while the printer answers stays
  if (!await host.setHeat(heater.heater, setpoint)) wanted.value ??= typed
  busy.value = false
}
</script>

<template>
  <Panel :title="name" :data-heater="heater.heater">
    <template #beside><State :shown="known ? heaterStates[heater.state] : unknownHeater" /></template>
    <div class="heater" :class="{ large }">
      <div :class="{ old: host.heatAge > 10 }">
        <div class="text-no-wrap">
          <Temperature :celsius="heater.actual" :class="large ? 'text-display-medium' : 'text-headline-large'" data-actual />
          <span v-if="known" class="text-medium-emphasis figures"> → {{ heater.setpoint > 0 ? `${heater.setpoint} °C` : 'off' }}</span>
        </div>
        <div class="text-body-small text-medium-emphasis figures">{{ !known ? 'not told yet' : heater.duty === undefined ? 'no duty is told' : `duty ${Math.round(heater.duty * 100)} %` }}<span v-if="outlook" data-outlook> · {{ outlook }}</span></div>
      </div>
      <form class="d-flex align-start ga-2" @submit.prevent="wanted !== undefined && set(wanted)">
        <NumberField v-model="wanted" :label="`Up to ${heater.limit}`" :aria-label="`Up to ${heater.limit}: setpoint of the ${name.toLowerCase()} in °C`" unit="°C" :most="heater.limit" style="width: 136px" />
        <v-btn type="submit" variant="tonal" color="primary" height="40" :disabled="wanted === undefined || !host.live" :loading="busy" :aria-label="`Set the ${name.toLowerCase()}`">Set</v-btn>
        <v-btn :icon="mdiPowerStandby" variant="text" size="40" :disabled="heater.setpoint === 0 || !host.live" :title="`Turn the ${name.toLowerCase()} off`" :aria-label="`Turn the ${name.toLowerCase()} off`" @click="set(0)" />
      </form>
    </div>
  </Panel>
</template>

<style scoped>
.heater { display: flex; flex-wrap: wrap; align-items: center; justify-content: space-between; gap: 10px 16px; }
.large { flex-direction: column; align-items: start; }
</style>
