<script setup lang="ts">
import { mdiAlert, mdiCheckCircle } from '@mdi/js'
import { onMounted, ref } from 'vue'

import { answered, api, type Schemas } from '../../api/client'
import { useHost } from '../../live/host'
import Panel from '../../ui/Panel.vue'
import { heaterName } from '../../words/heaters'
import { sentence } from '../../words/numbers'
import { countdown } from '../../words/time'

const host = useHost()
const health = ref<Schemas['HeatHealth'][]>([])
const models = ref<Schemas['HeatModel'][]>([])
const nameOf = (h: string) => heaterName(h, host.printer?.tools)
const of = (heater: string) => health.value.find(h => h.heater === heater)
/** The rise of each warm-up, without those of a heater that was not known yet. */
const warmUps = (heater: string) => (of(heater)?.episodes ?? []).filter(e => e.kind === 'warm-up' && (e.rise ?? 0) > 0).map(e => e.rise!)

/** The points of a line through values, in a box of 100 by 20. */
function spark(values: number[]): string {
  const [low, high] = [Math.min(...values), Math.max(...values)]
  return values.map((v, i) => `${100 * i / (values.length - 1)},${19 - 18 * (v - low) / (high - low || 1)}`).join(' ')
}

/** What duty a heater takes to hold, in words. */
function holding(n: Schemas['Needs']): string {
  const percent = (e: Schemas['Estimate']) => `${(100 * e.value).toFixed(1)} ± ${(100 * e.error).toFixed(1)} %`
  const parts = [`Holds ${Math.round(n.at)} °C with ${percent(n.duty)} of duty`]
  const fan = n.fan.at(-1)
  if (fan) parts.push(`fan at ${100 * fan.fan} %: ${percent(fan.more)} more`)
  if (n.melt) parts.push(`each mm³/s of filament: ${percent(n.melt)} more`)
  return `${parts.join('; ')}.`
}

async function load() {
  const found = await answered(api.GET('/v1/heat/models'))
  health.value = await Promise.all(found.models.map(m => answered(api.GET('/v1/heat/{heater}/health', { params: { path: { heater: m.heater } } }))))
  models.value = found.models
}
onMounted(() => { host.attempt(load) })
</script>

<template>
  <Panel title="How the heaters are" data-health>
    <p v-if="models.length === 0" class="text-medium-emphasis mb-0">It is learned as they warm up.</p>
    <section v-for="m in models" :key="m.heater" class="mb-4">
      <h3 class="text-title-small mb-1">{{ nameOf(m.heater) }}</h3>
      <p v-for="f in of(m.heater)?.findings ?? []" :key="f.text" class="mb-1 break">
        <v-icon :icon="f.worse ? mdiAlert : mdiCheckCircle" size="small" :color="f.worse ? 'warning' : 'success'" class="me-1" :aria-label="f.worse ? 'Worse' : 'Better'" />{{ sentence(f.text) }}
      </p>
      <p v-if="of(m.heater)?.findings.length === 0" class="mb-1 text-medium-emphasis">
        {{ warmUps(m.heater).length > 5 ? 'Nothing has changed beyond its own scatter.' : 'There is too little to compare with yet.' }}
      </p>
      <svg v-if="warmUps(m.heater).length > 5" class="spark" viewBox="0 0 100 20" preserveAspectRatio="none" role="img" :aria-label="`Rise at full duty of each warm-up of the ${nameOf(m.heater).toLowerCase()}`"><polyline :points="spark(warmUps(m.heater))" /></svg>
      <p class="text-body-small text-medium-emphasis figures mb-0">
        <template v-if="m.known">
          {{ m.rise.value.toFixed(2) }} ± {{ m.rise.error.toFixed(2) }} K/s at full duty, {{ Math.round(m.gain) }} K above the room in the end, time constant {{ countdown(m.time_constant_seconds) }}, dead time {{ m.dead_seconds }} s, room {{ m.ambient.value.toFixed(0) }} ± {{ Math.ceil(m.ambient.error) }} °C.
        </template>
        <template v-else>Not known yet: it is learned as the heater warms up.</template>
        <template v-if="m.needs"><br>{{ holding(m.needs) }}</template>
      </p>
    </section>
  </Panel>
</template>

<style scoped>
.spark { display: block; width: 100%; height: 36px; }
.spark polyline { fill: none; stroke: rgb(var(--v-theme-primary)); stroke-width: 1.5; vector-effect: non-scaling-stroke; }
section:last-child { margin-bottom: 0 !important; }
</style>
