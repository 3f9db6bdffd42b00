<script setup lang="ts">
import { computed } from 'vue'

import { useHost } from '../../live/host'
import Panel from '../../ui/Panel.vue'
import { clock } from '../../words/time'

const host = useHost()
const newest = computed(() => host.messages.slice(-5).reverse())
</script>

<template>
  <Panel v-if="newest.length" title="What the printer says">
    <ul class="messages">
      <li v-for="(m, i) in newest" :key="`${m.at} ${i}`"><span class="break">{{ m.text }}</span><span class="text-body-small text-medium-emphasis figures">{{ clock(m.at, true) }} · {{ m.kind }}</span></li>
    </ul>
  </Panel>
</template>

<style scoped>
.messages { list-style: none; padding: 0; margin: 0; display: grid; gap: 10px; }
.messages li { display: flex; flex-direction: column; }
</style>
