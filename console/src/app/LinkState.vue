<script setup lang="ts">
import { computed } from 'vue'

import { useHost } from '../live/host'
import State from '../ui/State.vue'
import { linkStates } from '../words/states'

const host = useHost()
const shown = computed(() => linkStates[host.connected ? host.link?.state ?? 'opening' : 'away'])
</script>

<template>
  <State :shown="shown" data-link />
</template>
