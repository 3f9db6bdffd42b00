<script setup lang="ts">
import { computed } from 'vue'

import { useHost } from '../live/host'

const host = useHost()
const axes = computed(() => host.position?.known
  ? (['x', 'y', 'z'] as const).map(a => ({ name: a.toUpperCase(), at: host.position![a].toFixed(2), sure: host.position!.homed.includes(a.toUpperCase()) }))
  : [])
</script>

<template>
  <v-card v-if="axes.length">
    <v-card-text class="d-flex flex-wrap ga-6 figures">
      <div v-for="a in axes" :key="a.name">
        <div class="text-body-small text-medium-emphasis">{{ a.name }}{{ a.sure ? '' : ' · not homed' }}</div>
        <div class="text-title-medium">{{ a.sure ? '' : '~ ' }}{{ a.at }} mm</div>
      </div>
    </v-card-text>
  </v-card>
</template>
