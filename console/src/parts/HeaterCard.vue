<script setup lang="ts">
import { mdiPowerStandby } from '@mdi/js'
import { computed, ref } from 'vue'

import type { Schemas } from '../api/client'
import { useHost } from '../live/host'
import { countdown, heaterColour, heaterName } from '../live/words'

const { heater } = defineProps<{ heater: Schemas['Heater'] }>()
const host = useHost()
const wanted = ref('')
const busy = ref(false)
const name = computed(() => heaterName(heater.heater, host.printer?.tools ?? 1))
const known = computed(() => heater.actual !== undefined)
const number = computed(() => Number(wanted.value.replace(',', '.')))
const wrong = computed(() => {
  if (wanted.value === '') return ''
  if (!Number.isFinite(number.value) || number.value < 0) return 'a number of °C'
  return number.value > heater.limit ? `at most ${heater.limit} °C` : ''
})

const outlook = computed(() => {
  if (heater.never) return 'does not get there at full duty'
  if (heater.ready_seconds) return `ready in ${countdown(heater.ready_seconds)}`
  if (heater.soak?.there && !heater.soak.done) return heater.soak.left_seconds === undefined ? 'soaking' : `soaking, ${countdown(heater.soak.left_seconds)} left`
  return ''
})

async function set(setpoint: number) {
  const typed = wanted.value
  busy.value = true
  wanted.value = '' // what is typed while the printer answers stays
  if (!await host.setHeat(heater.heater, setpoint)) wanted.value ||= typed
  busy.value = false
}
</script>

<template>
  <v-card :data-heater="heater.heater">
    <v-card-text>
      <div class="d-flex align-center ga-2">
        <span class="swatch" :class="heater.heater === 'bed' ? 'thick' : ''" :style="{ background: `rgb(var(--v-theme-${heaterColour(heater.heater)}))` }" />
        <span class="text-title-small">{{ name }}</span>
        <v-chip size="x-small" variant="tonal">{{ known ? heater.state : 'no reading' }}</v-chip>
        <v-spacer />
        <span class="text-body-small text-medium-emphasis figures">duty {{ heater.duty === undefined ? '–' : `${Math.round(heater.duty * 100)} %` }}</span>
      </div>
      <div class="d-flex flex-wrap align-center mt-2" style="column-gap: 16px; row-gap: 8px">
        <div class="figures flex-grow-1 text-no-wrap">
          <span class="text-headline-medium" data-actual>{{ heater.actual?.toFixed(1) ?? '–' }}</span>
          <span v-if="known" class="text-medium-emphasis"> °C → {{ heater.setpoint > 0 ? `${heater.setpoint} °C` : 'off' }}</span>
          <div v-if="outlook" class="text-body-small" data-outlook>{{ outlook }}</div>
        </div>
        <form class="d-flex align-start ga-2" @submit.prevent="wanted !== '' && !wrong && set(number)">
          <v-text-field v-model="wanted" :label="`Up to ${heater.limit}`" :aria-label="`${name} setpoint in °C`" inputmode="decimal" suffix="°C" :error-messages="wrong" style="width: 140px" />
          <v-btn type="submit" variant="tonal" color="primary" height="40" :disabled="wanted === '' || wrong !== '' || !host.live" :loading="busy">Set</v-btn>
          <v-btn :icon="mdiPowerStandby" variant="text" size="40" :disabled="heater.setpoint === 0 || !host.live" :title="`Turn the ${name.toLowerCase()} off`" @click="set(0)" />
        </form>
      </div>
    </v-card-text>
  </v-card>
</template>

<style scoped>
.swatch { width: 22px; height: 3px; border-radius: 2px; }
.swatch.thick { height: 6px; }
</style>
