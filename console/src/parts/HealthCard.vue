<script setup lang="ts">
import { mdiAlert, mdiCheckCircle } from '@mdi/js'
import { onMounted, ref } from 'vue'

import { answered, api, type Schemas } from '../api/client'
import { useHost } from '../live/host'
import { countdown, heaterName } from '../live/words'

const host = useHost()
const health = ref<Schemas['HeatHealth'][]>([])
const models = ref<Schemas['HeatModel'][]>([])
const nameOf = (h: string) => heaterName(h, host.printer?.tools ?? 1)
const warmUps = (h: Schemas['HeatHealth']) => h.episodes.filter(e => e.kind === 'warm-up' && (e.rise ?? 0) > 0) // without those of a heater that was not known yet

async function load() {
  const found = await answered(api.GET('/v1/heat/models'))
  health.value = await Promise.all(found.models.map(m => answered(api.GET('/v1/heat/{heater}/health', { params: { path: { heater: m.heater } } }))))
  models.value = found.models
}
onMounted(() => { host.attempt(load) })
</script>

<template>
  <v-card title="How the heaters are" data-health>
    <v-card-text>
      <div v-for="m in models" :key="m.heater" class="mb-4">
        <div class="text-title-small mb-1">{{ nameOf(m.heater) }}</div>
        <p v-for="f in health.find(h => h.heater === m.heater)?.findings ?? []" :key="f.text" class="mb-1 break">
          <v-icon :icon="f.worse ? mdiAlert : mdiCheckCircle" size="small" :color="f.worse ? 'warning' : 'success'" class="me-1" />{{ f.text.charAt(0).toUpperCase() + f.text.slice(1) }}
        </p>
        <p v-for="h in health.filter(h => h.heater === m.heater && h.findings.length === 0)" :key="h.heater" class="mb-1 text-medium-emphasis">
          {{ warmUps(h).length > 5 ? 'Nothing has changed beyond its own scatter.' : 'There is too little to compare with yet.' }}
        </p>
        <v-sparkline v-if="(health.find(h => h.heater === m.heater)?.episodes.length ?? 0) > 5" :model-value="warmUps(health.find(h => h.heater === m.heater)!).map(e => e.rise ?? 0)" :color="m.heater === 'bed' ? 'bed' : 'nozzle'" height="36" line-width="1.5" :aria-label="`Rise at full duty of each warm-up, the ${nameOf(m.heater).toLowerCase()}`" />
        <p class="text-body-small text-medium-emphasis figures mb-0">
          <template v-if="m.known">
            {{ m.rise.value.toFixed(2) }} ± {{ m.rise.error.toFixed(2) }} K/s at full duty, {{ Math.round(m.gain) }} K above the room in the end, time constant {{ countdown(m.time_constant_seconds) }}, dead time {{ m.dead_seconds }} s, room {{ m.ambient.value.toFixed(0) }} ± {{ Math.ceil(m.ambient.error) }} °C.
          </template>
          <template v-else>Not known yet: it is learned as the heater warms up.</template>
        </p>
      </div>
    </v-card-text>
  </v-card>
</template>
