<script setup lang="ts">
import { computed } from 'vue'

import { useHost } from '../../live/host'
import Figure from '../../ui/Figure.vue'
import Panel from '../../ui/Panel.vue'

const host = useHost()
const axes = computed(() => host.position?.known
  ? (['x', 'y', 'z'] as const).map(a => ({ name: a.toUpperCase(), at: host.position![a].toFixed(2), sure: host.position!.homed.includes(a.toUpperCase()) }))
  : [])
</script>

<template>
  <Panel v-if="axes.length" title="Where the head is">
    <dl class="d-flex flex-wrap" style="gap: 8px 28px">
      <Figure v-for="a in axes" :key="a.name" :name="a.sure ? a.name : `${a.name}, not homed`">{{ a.sure ? '' : '~ ' }}{{ a.at }} mm</Figure>
    </dl>
  </Panel>
</template>
