<script setup lang="ts">
import { mdiAlertOctagon } from '@mdi/js'
import { computed } from 'vue'

import { useHost } from '../live/host'

const host = useHost()
const title = computed(() => host.firmware?.halts_at_once === false
  ? 'Halt: emergency stop. This firmware reads it only in its turn: keep the printer\'s switch in reach'
  : 'Halt: emergency stop, at once')
</script>

<template>
  <v-btn color="halt" variant="flat" size="large" :prepend-icon="mdiAlertOctagon" :title="title" @click="host.halt()">Halt</v-btn>
</template>
