<script setup lang="ts">
import { mdiPowerStandby } from '@mdi/js'
import { computed, onMounted, ref, useId } from 'vue'

import { answered, api, type Schemas } from '../../api/client'
import { useHost } from '../../live/host'
import NumberField from '../../ui/NumberField.vue'
import Panel from '../../ui/Panel.vue'
import { heaterName } from '../../words/heaters'
import { countdown } from '../../words/time'

const host = useHost()
const kept = ref<Schemas['WarmUp'][]>([])
const models = ref<Schemas['HeatModel'][]>([])
const editing = ref<{ name: string, spool: string, setpoints: Record<string, number | undefined>, order: string, soak: boolean, soakMinutes?: number }>()
const id = useId()
const orders = [{ title: 'All arrive together', value: 'together' }, { title: 'The bed first', value: 'bed-first' }, { title: 'All begin at once', value: 'at-once' }]
const nameOf = (h: string) => heaterName(h, host.printer?.tools)
const words = (w: Schemas['WarmUp']) => Object.entries(w.setpoints).sort().reverse().map(([h, v]) => `${nameOf(h)} ${v} °C`).join(', ')
const partOff = computed(() => models.value.find(m => m.heater === 'bed'))

async function load() {
  kept.value = (await answered(api.GET('/v1/warm-ups'))).warm_ups
  models.value = (await answered(api.GET('/v1/heat/models'))).models
}
onMounted(() => { host.attempt(load) })

const begin = (name: string) => host.attempt(() => answered(api.POST('/v1/heat/warm-up', { body: { name } })))
async function cool() {
  if (await host.attempt(() => answered(api.POST('/v1/heat/cool')))) await host.attempt(load)
}

/** Every heater that the printer has, and those of the warm-up that it has not any more, is there to be changed. */
function edit(w?: Schemas['WarmUp']) {
  const heaters = [...new Set([...host.heaters.map(h => h.heater), ...Object.keys(w?.setpoints ?? {})])]
  editing.value = {
    name: w?.name ?? '', spool: w?.spool ?? '', setpoints: Object.fromEntries(heaters.map(h => [h, w?.setpoints[h]])), order: w?.order ?? 'together', soak: w?.soak ?? false,
    soakMinutes: w?.soak_seconds ? w.soak_seconds / 60 : undefined,
  }
}
async function save() {
  const e = editing.value!
  const setpoints = Object.fromEntries(Object.entries(e.setpoints).filter((s): s is [string, number] => s[1] !== undefined))
  const body = { name: e.name, spool: e.spool.trim() || undefined, setpoints, order: e.order as Schemas['WarmUp']['order'], soak: e.soak, soak_seconds: 60 * (e.soakMinutes ?? 0) }
  if (await host.attempt(() => answered(api.PUT('/v1/warm-ups/{name}', { params: { path: { name: e.name } }, body })))) {
    editing.value = undefined
    await host.attempt(load)
  }
}
async function forget() {
  const name = editing.value!.name
  if (await host.attempt(() => answered(api.DELETE('/v1/warm-ups/{name}', { params: { path: { name } } })))) {
    editing.value = undefined
    await host.attempt(load)
  }
}
</script>

<template>
  <Panel title="Warm up" data-warm-ups>
    <p v-if="kept.length === 0" class="text-medium-emphasis">None yet. Make one with the setpoints that you use most.</p>
    <ul class="warm-ups">
      <li v-for="w in kept" :key="w.name" data-warm-up>
        <div class="words"><div class="break">{{ w.name }}</div><div class="text-body-small text-medium-emphasis">{{ words(w) + (w.soak ? ', with a soak' : '') + (w.spool ? `, for ${w.spool}` : '') }}</div></div>
        <v-btn variant="text" size="small" :aria-label="`Change ${w.name}`" @click="edit(w)">Change</v-btn>
        <v-btn variant="tonal" color="primary" size="small" :aria-label="`Begin ${w.name}`" :disabled="!host.live || host.going" @click="begin(w.name)">Begin</v-btn>
      </li>
    </ul>
    <div class="d-flex flex-wrap justify-space-between ga-2 mt-3">
      <v-btn variant="text" @click="edit()">Another…</v-btn>
      <v-btn variant="outlined" :prepend-icon="mdiPowerStandby" :disabled="!host.live || host.going" @click="cool">Cool everything</v-btn>
    </div>
    <p v-if="partOff?.known && partOff.part_off_at" class="text-body-small text-medium-emphasis mt-3 mb-0">
      <template v-if="partOff.part_off_seconds">Turned off now, the bed lets a part go at {{ partOff.part_off_at }} °C in about {{ countdown(partOff.part_off_seconds) }}.</template>
      <template v-else-if="partOff.part_off_seconds === 0">The bed is cool enough to take a part off.</template>
      <template v-else>The bed does not get down to {{ partOff.part_off_at }} °C in this room.</template>
    </p>
    <v-dialog :model-value="editing !== undefined" max-width="440" :aria-labelledby="id" @update:model-value="editing = undefined">
      <v-card v-if="editing">
        <h2 :id="id" class="text-title-large px-5 pt-5">A warm-up</h2>
        <v-card-text class="d-flex flex-column ga-3 px-5">
          <v-text-field v-model="editing.name" label="Name" />
          <v-text-field v-model="editing.spool" label="For the spool" placeholder="any" persistent-placeholder />
          <div class="d-flex flex-wrap ga-3">
            <NumberField v-for="(_, h) in editing.setpoints" :key="h" v-model="editing.setpoints[h]" :label="nameOf(String(h))" unit="°C" :most="host.heaters.find(x => x.heater === h)?.limit" style="min-width: 120px" :data-setpoint="h" />
          </div>
          <v-select v-model="editing.order" :items="orders" label="Order" />
          <v-checkbox v-model="editing.soak" density="compact" hide-details label="Soak the bed until its heat has spread" />
          <NumberField v-if="editing.soak" v-model="editing.soakMinutes" label="For" unit="min" placeholder="until the plate has settled" persistent-placeholder />
        </v-card-text>
        <v-card-actions class="px-4 pb-4">
          <v-btn v-if="kept.some(w => w.name === editing!.name)" variant="text" color="error" @click="forget">Forget it</v-btn>
          <v-spacer />
          <v-btn variant="text" @click="editing = undefined">Not now</v-btn>
          <v-btn variant="flat" color="primary" :disabled="editing.name === ''" @click="save">Keep it</v-btn>
        </v-card-actions>
      </v-card>
    </v-dialog>
  </Panel>
</template>

<style scoped>
.warm-ups { list-style: none; padding: 0; margin: 0; display: grid; gap: 10px; }
.warm-ups li { display: flex; align-items: center; gap: 8px; }
.words { flex: 1 1 0; min-width: 0; }
</style>
