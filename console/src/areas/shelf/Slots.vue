<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../../api/client'
import { listed } from '../../words/numbers'

/** From which slot each of a file's tools is printed: what would be best is proposed, and a person decides. */
const { file, slots } = defineProps<{ file: Schemas['File'], slots: Schemas['Slot'][] }>()
const mapping = defineModel<number[]>({ required: true })

const of = (tool: number) => mapping.value[tool] ?? tool
const wants = (tool: number) => [file.hints.materials?.[tool] ?? file.hints.material, file.hints.colours?.[tool]].filter(Boolean).join(', ')
const items = computed(() => slots.map(s => ({ value: s.number, title: `${s.number}: ${s.loaded ? s.material : 'nobody has said'}` })))

function put(tool: number, slot: number) {
  const most = Math.max(...file.tools.map(t => t.tool), tool)
  mapping.value = Array.from({ length: most + 1 }, (_, t) => t === tool ? slot : of(t))
}
const other = computed(() => file.proposed_slots && file.tools.some(t => file.proposed_slots![t.tool] !== of(t.tool)) ? file.proposed_slots : undefined)
const proposal = computed(() => listed(file.tools.map(t => `tool ${t.tool} from slot ${other.value?.[t.tool] ?? t.tool}`)))
</script>

<template>
  <div class="mapping" data-mapping>
    <v-select v-for="t in file.tools" :key="t.tool" :model-value="of(t.tool)" :items="items" :label="`Tool ${t.tool}${wants(t.tool) ? `, for ${wants(t.tool)},` : ''} is printed from slot`" :data-tool="t.tool" @update:model-value="(slot: number) => put(t.tool, slot)">
      <template #prepend-inner><span class="swatch" :style="{ background: slots[of(t.tool)]?.colour || 'transparent' }" aria-hidden="true" /></template>
    </v-select>
    <p v-if="other" class="mb-0">By material and colour it would be {{ proposal }}. <v-btn variant="text" size="small" data-take @click="mapping = other">Take that</v-btn></p>
  </div>
</template>

<style scoped>
.mapping { display: grid; gap: 12px; grid-template-columns: minmax(0, 1fr); }
.swatch { width: 18px; height: 18px; border-radius: 50%; border: 1px solid rgba(var(--v-theme-on-surface), 0.5); margin-inline-end: 8px; flex: none; }
</style>
