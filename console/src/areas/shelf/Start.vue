<script setup lang="ts">
import { mdiDownload, mdiPlay } from '@mdi/js'
import { computed, useId } from 'vue'

import type { Schemas } from '../../api/client'
import { useHost } from '../../live/host'
import Figure from '../../ui/Figure.vue'
import Notice from '../../ui/Notice.vue'
import { heaterName } from '../../words/heaters'
import { sentence } from '../../words/numbers'
import { checkLevels } from '../../words/states'
import { span } from '../../words/time'

/** What a file is, what stands between it and its start, and the start. */
const file = defineModel<Schemas['File']>()
const emit = defineEmits<{ start: [name: string] }>()
const host = useHost()
const id = useId()
const blocked = computed(() => file.value?.checks?.some(c => c.level === 'block') ?? false)
const size = computed(() => {
  const e = file.value?.extent
  return e ? `${(e.max[0]! - e.min[0]!).toFixed(0)} × ${(e.max[1]! - e.min[1]!).toFixed(0)} × ${e.max[2]!.toFixed(1)} mm` : 'lays nothing'
})
const warmth = computed(() => Object.entries(file.value?.setpoints ?? {}).map(([h, v]) => `${heaterName(h, host.printer?.tools)} ${v} °C`).join(', ') || 'nothing')
</script>

<template>
  <v-dialog :model-value="file !== undefined" max-width="520" :aria-labelledby="id" @update:model-value="file = undefined">
    <v-card v-if="file" data-start>
      <h2 :id="id" class="text-title-large break px-5 pt-5">{{ file.name }}</h2>
      <v-card-text class="px-5">
        <dl class="facts mb-3">
          <Figure name="Moves take">{{ span(file.duration_seconds) }}</Figure>
          <Figure name="Layers">{{ file.layers }} of {{ file.layer_height.toFixed(2) }} mm</Figure>
          <Figure name="Filament">{{ file.filament_g.toFixed(1) }} g, {{ (file.filament_mm / 1000).toFixed(2) }} m</Figure>
          <Figure name="With priming">{{ size }}</Figure>
        </dl>
        <p class="mb-3">Warms {{ warmth }}</p>
        <Notice v-for="c in file.checks" :key="c.title" :color="checkLevels[c.level].color" :icon="checkLevels[c.level].icon" class="mb-2"><strong>{{ sentence(c.title) }}.</strong> {{ sentence(c.do) }}.</Notice>
      </v-card-text>
      <v-card-actions class="flex-wrap px-4 pb-4">
        <v-btn variant="text" :prepend-icon="mdiDownload" :href="`/v1/shelf/${encodeURIComponent(file.name)}/content`">Download</v-btn>
        <v-spacer />
        <v-btn variant="text" @click="file = undefined">Not now</v-btn>
        <v-btn variant="flat" color="primary" :prepend-icon="mdiPlay" :disabled="blocked" @click="emit('start', file.name)">Start</v-btn>
      </v-card-actions>
    </v-card>
  </v-dialog>
</template>

<style scoped>
.facts { display: grid; grid-template-columns: repeat(auto-fill, minmax(150px, 1fr)); gap: 12px 16px; }
</style>
