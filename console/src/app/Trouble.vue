<script setup lang="ts">
import { inWords } from '../api/client'
import { useHost } from '../live/host'

/** What went wrong with what a person wanted, until it is dismissed. It comes when it is needed. */
const host = useHost()
</script>

<template>
  <v-snackbar :model-value="host.problem !== undefined" :timeout="-1" color="error" location="top" @update:model-value="host.problem = undefined">
    <span role="alert">{{ host.problem ? inWords(host.problem) : '' }}</span>
    <template #actions><v-btn variant="text" @click="host.problem = undefined">Dismiss</v-btn></template>
  </v-snackbar>
</template>
