<script setup lang="ts">
import { computed, ref, useId, watch } from 'vue'

import { answered, api, type Schemas } from '../../api/client'
import { settable } from '../../api/settable.gen'
import { useHost } from '../../live/host'
import NumberField from '../../ui/NumberField.vue'

/** Says what is in a slot. */
const said = settable.LoadSlot
const { alone } = defineProps<{ alone: boolean }>()
const slot = defineModel<Schemas['Slot']>()
const host = useHost()
const id = useId()
const material = ref<string | null>('')
const coloured = ref(false)
const colour = ref('#808080')
const diameter = ref<number>()
const coldest = ref<number>()
const hottest = ref<number>()

/** At how many degrees the common plastics are printed: what a person may change. */
const common: Record<string, [number, number]> = { PLA: [190, 230], PETG: [220, 260], ABS: [230, 270], ASA: [235, 270], TPU: [205, 240], PA: [240, 285], PC: [260, 310], PVA: [180, 215], HIPS: [220, 250], PP: [210, 245] }

watch(slot, s => {
  if (!s) return
  material.value = s.material ?? ''
  coloured.value = !!s.colour
  colour.value = s.colour || '#808080'
  diameter.value = s.diameter_mm ?? host.printer?.filament_diameter
  coldest.value = s.coldest
  hottest.value = s.hottest
}, { immediate: true })
watch(material, now => {
  const [low, high] = common[now ?? ''] ?? []
  if (!low || !high || now === slot.value?.material) return
  const limit = Math.min(...host.heaters.filter(h => h.heater.startsWith('nozzle')).map(h => h.limit))
  coldest.value = Math.min(low, limit)
  hottest.value = Math.min(high, limit)
})

const named = computed(() => (material.value ?? '').trim() !== '')

async function save(body: Schemas['LoadSlot']) {
  const number = slot.value!.number
  if (await host.attempt(() => answered(api.PUT('/v1/slots/{number}', { params: { path: { number } }, body })))) slot.value = undefined
}
const load = () => save({ material: material.value!.trim(), colour: coloured.value ? colour.value : undefined, diameter_mm: diameter.value, coldest: coldest.value, hottest: hottest.value })
</script>

<template>
  <v-dialog :model-value="slot !== undefined" max-width="420" :aria-labelledby="id" @update:model-value="slot = undefined">
    <v-card v-if="slot" data-load>
      <h2 :id="id" class="text-title-large px-5 pt-5">{{ alone ? 'What is loaded?' : `What is in slot ${slot.number}?` }}</h2>
      <v-card-text class="px-5 fields">
        <v-combobox v-model="material" label="Material" :items="Object.keys(common)" :maxlength="said.material.longest" data-material />
        <div class="row">
          <v-checkbox v-model="coloured" label="Colour" hide-details density="compact" />
          <input v-if="coloured" v-model="colour" type="color" class="colour" aria-label="Colour of the filament">
        </div>
        <NumberField v-model="diameter" label="Diameter" unit="mm" :least="said.diameter_mm.least" :most="said.diameter_mm.most" />
        <div class="pair">
          <NumberField v-model="coldest" label="Nozzle from" unit="°C" :most="said.coldest.most" />
          <NumberField v-model="hottest" label="to" unit="°C" :most="said.hottest.most" />
        </div>
      </v-card-text>
      <v-card-actions class="flex-wrap px-4 pb-4">
        <v-btn v-if="slot.loaded" variant="text" @click="save({})">Nothing is loaded</v-btn>
        <v-spacer />
        <v-btn variant="text" @click="slot = undefined">Leave it</v-btn>
        <v-btn variant="flat" color="primary" :disabled="!named" data-save @click="load">Save</v-btn>
      </v-card-actions>
    </v-card>
  </v-dialog>
</template>

<style scoped>
.fields { display: grid; gap: 12px; }
.colour { width: 56px; height: 40px; border: 0; background: none; }
.pair { display: grid; grid-template-columns: 1fr 1fr; gap: 12px; }
</style>
