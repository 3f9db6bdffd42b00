<script setup lang="ts">
import { mdiBellAlert } from '@mdi/js'

import { useHost } from '../live/host'

const host = useHost()
const done: Record<string, string> = {
  tell: 'Nothing was done by itself.', hold: 'The run was held.', cool: 'The run was held and every heater turned off.', halt: 'The printer was halted.',
}
</script>

<template>
  <v-alert v-for="a in host.alarms" :key="a.id" type="error" variant="tonal" :icon="mdiBellAlert" class="mb-4" data-alarm>
    <div class="d-flex flex-wrap align-center ga-3">
      <div class="flex-grow-1 break" style="min-width: 240px; flex-basis: 0">
        <strong>Alarm, {{ new Date(a.at).toLocaleString([], { dateStyle: 'short', timeStyle: 'medium', hourCycle: 'h23' }) }}:</strong> {{ a.text }}
        <div>{{ done[a.action] }}</div>
      </div>
      <v-btn variant="outlined" @click="host.acknowledge(a.id)">I have seen to it</v-btn>
    </div>
  </v-alert>
</template>
