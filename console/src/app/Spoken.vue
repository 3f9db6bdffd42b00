<script setup lang="ts">
import { computed } from 'vue'

import { useHost } from '../live/host'
import { runStates } from '../words/states'

/** What happens, for those who hear the page: how the run stands, and alarms before all else. */
const host = useHost()
const run = computed(() => {
  const r = host.run
  return r ? `${r.file}: ${runStates[r.state].word}${r.reason ? `, ${r.reason}` : ''}` : ''
})
const alarm = computed(() => host.alarms.map(a => `Alarm: ${a.text}`).join('. '))
</script>

<template>
  <div class="unseen">
    <p role="status">{{ run }}</p>
    <p role="alert">{{ alarm }}</p>
  </div>
</template>
