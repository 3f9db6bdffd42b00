<script setup lang="ts">
import { mdiAlertOctagon } from '@mdi/js'

import { useHost } from '../live/host'

const host = useHost()
</script>

<template>
  <v-btn color="error" variant="flat" size="large" :prepend-icon="mdiAlertOctagon" title="Emergency stop, at once" @click="host.halt()">Halt</v-btn>
</template>
