<script setup lang="ts">
import { onMounted, ref } from 'vue'

import { answered, api, type Schemas } from '../api/client'
import { useIntervalFn } from '../live/interval'

/** The serial ports of the host's computer, for when the printer's is not found. */
const ports = ref<Schemas['Port'][]>()
const look = () => answered(api.GET('/v1/bench/ports')).then(found => { ports.value = found.ports }, () => undefined)
onMounted(look)
useIntervalFn(look, 5000)
</script>

<template>
  <div v-if="ports" class="text-body-small mt-2">
    <template v-if="ports.length">
      <div>Ports on USB:</div>
      <div v-for="p in ports" :key="p.path" class="break">
        <span class="mono">{{ p.path }}</span>
        <span v-if="p.maker || p.product"> · {{ [p.maker, p.product].filter(Boolean).join(' ') }}</span>
        <span v-if="p.serial"> · {{ p.serial }}</span>
        <span v-if="p.used_by"> · used by {{ p.used_by }}</span>
      </div>
    </template>
    <template v-else>No port on USB is there.</template>
  </div>
</template>
