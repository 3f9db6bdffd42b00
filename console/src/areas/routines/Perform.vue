<script setup lang="ts">
import { ref, useId, watch } from 'vue'

import type { Schemas } from '../../api/client'
import { useRoutines } from '../../live/routines'
import { sentence } from '../../words/numbers'

/** Asks for a routine's values, shows what it may do, and begins it. */
const routine = defineModel<Schemas['Routine']>()
const routines = useRoutines()
const id = useId()
const values = ref<Record<string, string>>({})
const busy = ref(false)

watch(routine, r => { values.value = Object.fromEntries((r?.parameters ?? []).map(p => [p.name, p.default ?? ''])) }, { immediate: true })
const label = (p: Schemas['RoutineParameter']) => sentence(p.name.replaceAll('_', ' '))
const hint = (p: Schemas['RoutineParameter']) => p.type === 'number' ? `${p.low} to ${p.high} ${p.unit ?? ''}`.trim() : ''

async function begin() {
  busy.value = true
  const given = Object.fromEntries(Object.entries(values.value).filter(([, v]) => v !== '').map(([k, v]) => [k, v.replace(',', '.')]))
  if (await routines.perform(routine.value!.name, given)) routine.value = undefined
  busy.value = false
}
</script>

<template>
  <v-dialog :model-value="routine !== undefined" max-width="480" :aria-labelledby="id" scrollable @update:model-value="routine = undefined">
    <v-card v-if="routine" data-perform>
      <h2 :id="id" class="text-title-large px-5 pt-5">{{ routine.name }}</h2>
      <v-card-text class="px-5 stack">
        <p class="mb-0">{{ routine.about }}</p>
        <template v-for="p in routine.parameters" :key="p.name">
          <v-select v-if="p.words?.length" v-model="values[p.name]" :label="label(p)" :items="p.words" :data-value="p.name" hide-details />
          <v-text-field v-else v-model="values[p.name]" :label="label(p)" :suffix="p.unit" :hint="hint(p)" persistent-hint :inputmode="p.type === 'number' ? 'decimal' : 'text'" autocomplete="off" :data-value="p.name" />
        </template>
        <ul class="text-body-small pl-4 mb-0"><li v-for="line in routine.sentences" :key="line">{{ line }}</li></ul>
      </v-card-text>
      <v-card-actions class="px-4 pb-4">
        <v-spacer />
        <v-btn variant="text" @click="routine = undefined">Leave it</v-btn>
        <v-btn variant="flat" color="primary" :loading="busy" :disabled="routines.fits(routine) !== ''" data-begin @click="begin">Begin</v-btn>
      </v-card-actions>
    </v-card>
  </v-dialog>
</template>
