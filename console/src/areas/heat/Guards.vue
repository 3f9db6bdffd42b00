<script setup lang="ts">
import { mdiChevronRight } from '@mdi/js'
import { computed, onMounted, ref, watch } from 'vue'

import { answered, api, type Schemas } from '../../api/client'
import { useHost } from '../../live/host'
import { useIntervalFn } from '../../live/interval'
import Panel from '../../ui/Panel.vue'
import { alarmSaid, guardActions, guardClaims, guardReason, guardTold } from '../../words/guards'
import { heaterName } from '../../words/heaters'
import { sentence } from '../../words/numbers'
import { moment } from '../../words/time'

type Bound = NonNullable<Schemas['Guard']['bound']>

const host = useHost()
const guards = ref<Schemas['Guard'][]>([])
const alarms = ref<Schemas['Alarm'][]>([])
const seen = ref<Schemas['Hindsight']>()
const days = ref(30)
const nameOf = (h: string) => heaterName(h, host.printer?.tools)
const heaters = computed(() => [...new Set(guards.value.map(g => g.heater))])
const looking = computed(() => seen.value !== undefined && !seen.value.ended)
const choices = (g: Schemas['Guard']) => [
  { title: 'what it earns', value: '' },
  ...(Object.keys(guardActions) as Bound[]).map(a => ({ title: `at the most ${guardActions[a]}`, value: a })).slice(0, ['tell', 'hold', 'cool', 'halt'].indexOf(g.most) + 1),
]

async function load() {
  guards.value = (await answered(api.GET('/v1/heat/guards'))).guards
  alarms.value = (await answered(api.GET('/v1/heat/alarms', { params: { query: { limit: 500 } } }))).alarms
}
async function look() {
  try {
    seen.value = await answered(api.GET('/v1/heat/hindsight'))
  } catch { /* it is asked again */ }
}
onMounted(() => {
  host.attempt(load)
  void look()
})
watch(() => host.alarms, () => host.attempt(load)) // one is new, or was acknowledged
useIntervalFn(() => { if (looking.value) void look() }, 1000)

const bound = (g: Schemas['Guard'], action: string) => host.attempt(async () => {
  await answered(api.PUT('/v1/heat/guards/{heater}/{guard}', { params: { path: { heater: g.heater, guard: g.guard } }, body: action ? { bound: action as Bound } : {} }))
  await load()
})
const lookBack = () => host.attempt(async () => {
  seen.value = await answered(api.POST('/v1/heat/hindsight', { body: { from: new Date(Date.now() - days.value * 864e5).toISOString() } }))
})
</script>

<template>
  <Panel title="What watches the heaters" data-guards>
    <div class="columns even mb-4">
      <section v-for="h in heaters" :key="h">
        <h3 class="text-title-small mb-1">{{ nameOf(h) }}</h3>
        <div class="row heads text-body-small text-medium-emphasis" aria-hidden="true">
          <span class="figures">Watched</span><span class="figures">Alarms</span><span>Told</span><span class="may">Does</span>
        </div>
        <details v-for="g in guards.filter(x => x.heater === h)" :key="g.guard" class="guard" :data-guard="`${h}/${g.guard}`">
          <summary class="row">
            <span class="claim"><v-icon :icon="mdiChevronRight" size="small" class="turns" />{{ guardClaims[g.guard] }}</span>
            <span class="figures" title="Watched">{{ Math.round(g.seen_hours) }} h</span>
            <span class="figures" title="Alarms">{{ g.claimed || '–' }}</span>
            <span class="told" title="Told by persons">{{ guardTold(g) }}</span>
            <span class="may" :class="g.may === 'tell' ? 'text-medium-emphasis' : ''">{{ guardActions[g.may] }}</span>
          </summary>
          <div class="text-body-small py-2">
            <p class="mb-1">{{ sentence(guardReason(g)) }}.</p>
            <p class="mb-1 figures">
              Closest call: {{ Math.round(100 * g.closest) }} % of the way to an alarm<template v-if="g.closest_at">, {{ moment(g.closest_at) }}</template>.
            </p>
            <v-progress-linear :model-value="100 * g.closest" height="4" rounded :color="g.closest >= 0.7 ? 'warning' : 'primary'" class="mb-2" :aria-label="`Closest call of ${guardClaims[g.guard]}`" />
            <p v-if="g.blind" class="mb-1">{{ sentence(g.blind) }}.</p>
            <ul v-if="g.claimed > 0" class="ps-5 mb-1">
              <li v-for="a in alarms.filter(x => x.heater === h && x.guard === g.guard).slice(0, 5)" :key="a.id" class="break">{{ moment(a.at) }}: {{ a.text }} – {{ alarmSaid(a) }}.</li>
            </ul>
            <v-select v-if="!g.certain && !g.set" :model-value="g.bound ?? ''" :items="choices(g)" label="It may do" style="max-width: 320px" class="mt-3" @update:model-value="(a: string) => bound(g, a)" />
          </div>
        </details>
      </section>
    </div>
    <p v-if="heaters.length === 0" class="text-medium-emphasis">The printer has no heater.</p>
    <form class="d-flex flex-wrap ga-3 align-center" @submit.prevent="lookBack">
      <v-select v-model="days" :items="[{ title: 'the last week', value: 7 }, { title: 'the last month', value: 30 }, { title: 'the last year', value: 365 }]" label="Look back over" style="max-width: 200px" />
      <v-btn type="submit" variant="tonal" color="primary" height="40" :disabled="looking || host.going">What would they have said?</v-btn>
    </form>
    <div v-if="seen" class="mt-3 text-body-small" role="status" data-hindsight>
      <template v-if="looking">
        <p class="mb-1">They are looking at the log.</p>
        <v-progress-linear :model-value="100 * seen.progress" height="4" rounded color="primary" aria-label="How far they have looked" />
      </template>
      <p v-else-if="seen.failed" class="text-error mb-0 break">{{ sentence(seen.failed) }}</p>
      <p v-else-if="seen.alarms.length === 0" class="mb-0">Nothing, since {{ moment(seen.from) }}.</p>
      <ul v-if="seen.alarms.length > 0" class="ps-5 mb-0">
        <li v-for="(a, i) in seen.alarms.slice(-40)" :key="i" class="break">{{ moment(a.at) }}: {{ a.text }} (it {{ guardActions[a.action] }})</li>
      </ul>
    </div>
  </Panel>
</template>

<style scoped>
.guard { border-top: 1px solid rgba(var(--v-border-color), var(--v-border-opacity)); }
.row { display: grid; grid-template-columns: 4.2em 3.6em 5.6em minmax(0, 1fr); gap: 0 10px; align-items: baseline; }
.claim { grid-column: 1 / -1; }
summary { padding: 8px 0; cursor: pointer; }
.row > .figures { text-align: end; }
.row > .may { text-align: end; }
.row > span:not(.claim) { font-size: 0.875rem; letter-spacing: normal; overflow-wrap: normal; word-break: normal; }
.turns { transition: transform 0.15s; }
details[open] .turns { transform: rotate(90deg); }
</style>
