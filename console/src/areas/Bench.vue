<script setup lang="ts">
import { mdiAlertCircle, mdiConnection, mdiLanDisconnect } from '@mdi/js'
import { computed } from 'vue'

import { useHost } from '../live/host'
import AlarmList from '../parts/AlarmList.vue'
import HeatChart from '../parts/HeatChart.vue'
import HeaterCard from '../parts/HeaterCard.vue'
import MessageList from '../parts/MessageList.vue'
import PortList from '../parts/PortList.vue'
import PositionCard from '../parts/PositionCard.vue'
import RunCard from '../parts/RunCard.vue'

const host = useHost()
const waiting = computed(() => host.link?.state === 'opening' || host.link?.state === 'greeting')
</script>

<template>
  <v-alert v-if="!host.connected" type="error" variant="tonal" :icon="mdiLanDisconnect" class="mb-4">
    The host does not answer; trying again. What is shown here is old.
  </v-alert>
  <v-alert v-else-if="host.link && !host.live" :type="waiting ? 'info' : 'error'" variant="tonal" :icon="mdiAlertCircle" class="mb-4" data-link-reason>
    <div class="d-flex flex-wrap align-center ga-3">
      <div class="flex-grow-1 break" style="min-width: 240px; flex-basis: 0">
        {{ host.link.reason }}
        <PortList v-if="host.link.state === 'absent'" />
      </div>
      <v-btn v-if="!waiting && !host.going" :prepend-icon="mdiConnection" variant="outlined" @click="host.reconnect()">Reconnect</v-btn>
    </div>
  </v-alert>
  <AlarmList />
  <v-row density="comfortable">
    <v-col cols="12" md="7">
      <RunCard class="mb-4" />
      <v-card title="Last 15 minutes"><v-card-text><HeatChart /></v-card-text></v-card>
    </v-col>
    <v-col cols="12" md="5">
      <HeaterCard v-for="h in host.heaters" :key="h.heater" :heater="h" class="mb-4" />
      <PositionCard class="mb-4" />
      <MessageList />
    </v-col>
  </v-row>
</template>
