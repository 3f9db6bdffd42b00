<script setup lang="ts">
import { computed } from 'vue'

import { useHost } from '../../live/host'
import Panel from '../../ui/Panel.vue'

const host = useHost()
const words = computed(() => {
  const f = host.flow
  if (f?.watch === 'off') return 'The flow is not watched; flow in [heat] of the configuration turns it on.'
  if (!host.going) return 'Told from the nozzle\'s duty while a file is printed.'
  const asked = f?.asked.toFixed(1) ?? '0'
  if (f?.stopped) return `Nothing flows, and the file asks for ${asked} mm³/s.`
  if (f?.seen === undefined) return `The file asks for ${asked} mm³/s: too little to tell from the duty within five minutes, or the nozzle is not known well enough yet.`
  return `About ${f.seen.toFixed(1)} of the ${asked} mm³/s that the file asks for.`
})
</script>

<template>
  <Panel title="Does filament flow?" data-flow><p class="mb-0" :class="{ 'text-error': host.flow?.stopped }">{{ words }}</p></Panel>
</template>
