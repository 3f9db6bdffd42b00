<script setup lang="ts">
import { mdiConnection } from '@mdi/js'

import { useHost } from '../../live/host'
import Panel from '../../ui/Panel.vue'
import { sentence } from '../../words/numbers'
import { about, usePorts } from '../setup/port'

/** Helps to connect a printer that is not there: what the host knows, what to do, and the ports of its computer. */
const host = useHost()
const ports = usePorts()
</script>

<template>
  <Panel data-connect>
    <h2 class="text-headline-medium mb-2">No printer yet</h2>
    <p class="mb-4 break" data-link-reason>{{ sentence(host.link?.reason ?? '') }}</p>
    <ol class="ps-5 mb-4">
      <li>Switch the printer on.</li>
      <li>Plug its cable into the computer that this host runs on.</li>
      <li>Wait a moment: it is looked for every two seconds, and the baud rate is found by itself.</li>
    </ol>
    <v-btn :prepend-icon="mdiConnection" variant="flat" color="primary" @click="host.reconnect()">Look now</v-btn>
    <h3 class="text-title-small mt-5 mb-1">Ports on this computer</h3>
    <p v-if="!ports" class="text-medium-emphasis mb-0">Looking…</p>
    <p v-else-if="ports.length === 0" class="text-medium-emphasis mb-0">No port on USB is there. A cable for charging alone looks the same and carries no data: try another.</p>
    <ul v-else class="ports">
      <li v-for="p in ports" :key="p.path" class="break">
        <span class="mono">{{ p.path }}</span>
        <span class="text-body-small text-medium-emphasis">{{ [about(p), p.ours && 'the one that is tried'].filter(Boolean).join(' · ') }}</span>
      </li>
    </ul>
  </Panel>
</template>

<style scoped>
.ports { list-style: none; padding: 0; margin: 0; display: grid; gap: 8px; }
.ports li { display: flex; flex-direction: column; }
</style>
