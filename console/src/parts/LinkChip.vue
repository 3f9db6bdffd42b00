<script setup lang="ts">
import { mdiAlertCircle, mdiCheckCircle, mdiLanDisconnect, mdiProgressClock } from '@mdi/js'
import { computed } from 'vue'

import { useHost } from '../live/host'

const host = useHost()
const shown = computed(() => {
  if (!host.connected) return { word: 'no host', icon: mdiLanDisconnect, color: 'error' }
  const word = host.link?.state ?? 'opening'
  if (word === 'live') return { word, icon: mdiCheckCircle, color: 'success' }
  if (word === 'opening' || word === 'greeting') return { word, icon: mdiProgressClock, color: 'warning' }
  return { word, icon: mdiAlertCircle, color: 'error' }
})
</script>

<template>
  <v-chip :color="shown.color" :prepend-icon="shown.icon" size="small" variant="tonal" data-link>{{ shown.word }}</v-chip>
</template>
