<script setup lang="ts">
import { computed } from 'vue'

import { useHost } from '../live/host'

const host = useHost()
const newest = computed(() => host.messages.slice(-5).reverse())
const time = (at: string) => new Date(at).toLocaleTimeString()
</script>

<template>
  <v-card v-if="newest.length" title="Messages">
    <v-list density="compact">
      <v-list-item v-for="(m, i) in newest" :key="`${m.at} ${i}`" :title="m.text" :subtitle="`${time(m.at)} · ${m.kind}`" />
    </v-list>
  </v-card>
</template>
