<script setup lang="ts">
import { computed, defineAsyncComponent, onMounted, ref, watch } from 'vue'
import { useDisplay } from 'vuetify'

import type { Schemas } from '../../api/client'
import { useRoutines } from '../../live/routines'
import Panel from '../../ui/Panel.vue'

/** The routines that have a button here: on a narrow page those for the phone, too. */
const { place } = defineProps<{ place: 'bench' | 'motion' }>()
const Perform = defineAsyncComponent(() => import('./Perform.vue')) // with its fields, when one is wanted
const routines = useRoutines()
const display = useDisplay()
const chosen = ref<Schemas['Routine']>()
const wanted = ref(false)
watch(chosen, () => { wanted.value = true })
const shown = computed(() => (routines.all ?? []).filter(r => r.buttons.includes(place) || display.xs.value && r.buttons.includes('phone')))
onMounted(() => { if (!routines.all) routines.load() })
</script>

<template>
  <Panel v-if="shown.length || place === 'motion'" title="Routines" data-routines>
    <template #beside><v-btn variant="text" to="/motion/routines">All of them</v-btn></template>
    <div class="row">
      <v-btn v-for="r in shown" :key="r.name" variant="tonal" :disabled="routines.fits(r) !== ''" :title="routines.fits(r) || r.about" :data-routine="r.name" @click="chosen = r">{{ r.name }}</v-btn>
    </div>
    <Perform v-if="wanted" v-model="chosen" />
  </Panel>
</template>
