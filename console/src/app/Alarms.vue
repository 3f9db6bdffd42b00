<script setup lang="ts">
import { mdiBellAlert } from '@mdi/js'

import { useHost } from '../live/host'
import Notice from '../ui/Notice.vue'
import { alarmActions } from '../words/states'
import { moment } from '../words/time'

const host = useHost()
</script>

<template>
  <Notice v-for="a in host.alarms" :key="a.id" color="alarm" :icon="mdiBellAlert" class="mb-4" data-alarm>
    <strong>Alarm, {{ moment(a.at) }}:</strong> {{ a.text }}
    <div>{{ alarmActions[a.action] }}</div>
    <template #beside><v-btn variant="outlined" color="alarm" @click="host.acknowledge(a.id)">I have seen to it</v-btn></template>
  </Notice>
</template>
