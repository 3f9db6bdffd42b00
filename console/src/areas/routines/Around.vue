<script setup lang="ts">
import { computed, onMounted } from 'vue'

import type { Schemas } from '../../api/client'
import { useRoutines } from '../../live/routines'

/** Chooses the routines that are performed before a run, and after it. */
const { disabled = false } = defineProps<{ disabled?: boolean }>()
const around = defineModel<Schemas['Around']>({ required: true })
const routines = useRoutines()
onMounted(() => { if (!routines.all) routines.load() })

/** Those that can be performed without a run, by what each does. */
const choices = computed(() => (routines.all ?? []).filter(r => r.idle && !r.trouble).map(r => r.name))
const names = (all: Schemas['Performs'][]) => all.map(r => r.routine)
/** The chosen ones; what values one had stay with it. */
const chosen = (all: Schemas['Performs'][], now: string[]) => now.slice(0, 8).map(n => all.find(r => r.routine === n) ?? { routine: n })
</script>

<template>
  <div class="around">
    <v-select :model-value="names(around.before)" :items="choices" label="Perform first" multiple chips closable-chips :disabled="disabled" placeholder="nothing" persistent-placeholder data-before @update:model-value="(now: string[]) => { around = { ...around, before: chosen(around.before, now) } }" />
    <v-select :model-value="names(around.after)" :items="choices" label="And once it is finished" multiple chips closable-chips :disabled="disabled" placeholder="nothing" persistent-placeholder data-after @update:model-value="(now: string[]) => { around = { ...around, after: chosen(around.after, now) } }" />
  </div>
</template>

<style scoped>
.around { display: grid; gap: 12px; grid-template-columns: repeat(auto-fit, minmax(220px, 1fr)); }
</style>
