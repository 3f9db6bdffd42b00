<script setup lang="ts">
import { mdiClose, mdiFire, mdiPowerStandby } from '@mdi/js'
import { computed, onMounted, ref } from 'vue'

import { answered, api, type Schemas } from '../api/client'
import { useHost } from '../live/host'
import { countdown, heaterName } from '../live/words'

const host = useHost()
const kept = ref<Schemas['WarmUp'][]>([])
const models = ref<Schemas['HeatModel'][]>([])
const editing = ref<{ name: string, setpoints: Record<string, string>, order: string, soak: boolean, soakMinutes: string }>()
const orders = [{ title: 'All arrive together', value: 'together' }, { title: 'The bed first', value: 'bed-first' }, { title: 'All begin at once', value: 'at-once' }]
const going = computed(() => host.warmUp)
const nameOf = (h: string) => heaterName(h, host.printer?.tools ?? 1)
const words = (w: Schemas['WarmUp']) => Object.entries(w.setpoints).sort().reverse().map(([h, v]) => `${nameOf(h)} ${v} °C`).join(', ')
const partOff = computed(() => models.value.find(m => m.heater === 'bed'))

async function load() {
  kept.value = (await answered(api.GET('/v1/warm-ups'))).warm_ups
  models.value = (await answered(api.GET('/v1/heat/models'))).models
}
onMounted(() => { host.attempt(load) })

const begin = (name: string) => host.attempt(() => answered(api.POST('/v1/heat/warm-up', { body: { name } })))
const end = () => host.attempt(() => answered(api.DELETE('/v1/heat/warm-up')))
async function cool() {
  if (await host.attempt(() => answered(api.POST('/v1/heat/cool')))) await host.attempt(load)
}

const number = (text: string) => Number(text.replace(',', '.')) || 0
/** Every heater that the printer has, and those of the warm-up that it has not any more, is there to be changed. */
function edit(w?: Schemas['WarmUp']) {
  const heaters = [...new Set([...host.heaters.map(h => h.heater), ...Object.keys(w?.setpoints ?? {})])]
  editing.value = {
    name: w?.name ?? '', setpoints: Object.fromEntries(heaters.map(h => [h, String(w?.setpoints[h] ?? '')])), order: w?.order ?? 'together', soak: w?.soak ?? false,
    soakMinutes: w?.soak_seconds ? String(w.soak_seconds / 60) : '',
  }
}
async function save() {
  const e = editing.value!
  const setpoints = Object.fromEntries(Object.entries(e.setpoints).filter(([, text]) => text !== '').map(([heater, text]) => [heater, number(text)]))
  const body = { name: e.name, setpoints, order: e.order as Schemas['WarmUp']['order'], soak: e.soak, soak_seconds: 60 * number(e.soakMinutes) }
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
  <v-card title="Warm up" data-warm-ups>
    <v-card-text>
      <v-alert v-if="going" type="info" variant="tonal" :icon="mdiFire" class="mb-4" data-warming>
        <div class="d-flex align-center ga-3">
          <div class="flex-grow-1 break">
            {{ going.warm_up.name }}: {{ going.done ? 'ready' : going.soaking ? 'soaking' : 'warming up' }}<span v-if="!going.done && going.left_seconds !== undefined" class="figures">, ready in {{ countdown(going.left_seconds) }}</span>
          </div>
          <v-btn :icon="mdiClose" variant="text" size="small" title="Give this warm-up up; the heaters stay on" @click="end" />
        </div>
      </v-alert>
      <v-list density="compact" class="pa-0" aria-label="Warm-ups">
        <v-list-item v-for="w in kept" :key="w.name" :title="w.name" :subtitle="words(w) + (w.soak ? ', with a soak' : '')" class="px-0">
          <template #append>
            <v-btn variant="text" size="small" @click="edit(w)">Change</v-btn>
            <v-btn variant="tonal" color="primary" size="small" :disabled="!host.live || host.going" @click="begin(w.name)">Begin</v-btn>
          </template>
        </v-list-item>
      </v-list>
      <div class="d-flex flex-wrap ga-2 mt-3">
        <v-btn variant="text" @click="edit()">Another…</v-btn>
        <v-spacer />
        <v-btn variant="outlined" :prepend-icon="mdiPowerStandby" :disabled="!host.live || host.going" @click="cool">Cool everything</v-btn>
      </div>
      <p v-if="partOff?.known && partOff.part_off_at" class="text-body-small text-medium-emphasis mt-3 mb-0">
        <template v-if="partOff.part_off_seconds">Turned off now, the bed lets a part go at {{ partOff.part_off_at }} °C in about {{ countdown(partOff.part_off_seconds) }}.</template>
        <template v-else-if="partOff.part_off_seconds === 0">The bed is cool enough to take a part off.</template>
        <template v-else>The bed does not get down to {{ partOff.part_off_at }} °C in this room.</template>
      </p>
    </v-card-text>
    <v-dialog :model-value="editing !== undefined" max-width="440" @update:model-value="editing = undefined">
      <v-card v-if="editing" title="A warm-up">
        <v-card-text class="d-flex flex-column ga-3">
          <v-text-field v-model="editing.name" label="Name" />
          <div class="d-flex flex-wrap ga-3">
            <v-text-field v-for="(_, h) in editing.setpoints" :key="h" v-model="editing.setpoints[h]" :label="nameOf(String(h))" suffix="°C" inputmode="decimal" style="min-width: 120px" :data-setpoint="h" />
          </div>
          <v-select v-model="editing.order" :items="orders" label="Order" variant="outlined" density="compact" hide-details />
          <v-checkbox v-model="editing.soak" density="compact" hide-details label="Soak the bed until its heat has spread" />
          <v-text-field v-if="editing.soak" v-model="editing.soakMinutes" label="For" suffix="min" inputmode="decimal" placeholder="until the plate has settled" persistent-placeholder />
        </v-card-text>
        <v-card-actions>
          <v-btn v-if="kept.some(w => w.name === editing!.name)" variant="text" color="error" @click="forget">Forget it</v-btn>
          <v-spacer />
          <v-btn variant="text" @click="editing = undefined">Not now</v-btn>
          <v-btn variant="flat" color="primary" :disabled="editing.name === ''" @click="save">Keep it</v-btn>
        </v-card-actions>
      </v-card>
    </v-dialog>
  </v-card>
</template>
