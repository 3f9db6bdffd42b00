<script setup lang="ts">
import { mdiBellAlert } from '@mdi/js'

import { useHost } from '../live/host'
import Notice from '../ui/Notice.vue'
import { alarmActions, alarmCauses } from '../words/states'
import { moment } from '../words/time'

type Verdict = keyof typeof alarmCauses

const host = useHost()
</script>

<template>
  <Notice v-for="a in host.alarms" :key="a.id" color="alarm" :icon="mdiBellAlert" class="mb-4" data-alarm>
    <strong>Alarm, {{ moment(a.at) }}:</strong> {{ a.text }}
    <div>{{ alarmActions[a.action] }}</div>
    <template v-if="a.heater">
      <div v-for="(cause, verdict) in alarmCauses" :key="verdict" class="d-flex flex-wrap align-center ga-2 mt-2" role="group" :aria-label="cause.title">
        <span class="text-body-small cause">{{ cause.title }}</span>
        <v-btn v-for="reason in cause.reasons" :key="reason" size="small" variant="tonal" rounded="pill" class="reason" :data-verdict="verdict" @click="host.acknowledge(a.id, { verdict: verdict as Verdict, reason })">{{ reason }}</v-btn>
      </div>
    </template>
    <template #beside><v-btn variant="outlined" color="alarm" @click="host.acknowledge(a.id)">I have seen to it</v-btn></template>
  </Notice>
</template>

<style scoped>
.cause { min-width: 11em; }
@media (max-width: 599px) { .cause { flex-basis: 100%; } }
.reason { height: auto; min-height: 32px; white-space: normal; max-width: 100%; }
</style>
