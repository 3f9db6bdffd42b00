<script setup lang="ts">
import { mdiCheckCircle, mdiClose, mdiFire } from '@mdi/js'
import { computed } from 'vue'

import { answered, api } from '../api/client'
import { useHost } from '../live/host'
import Notice from '../ui/Notice.vue'
import { countdown, soon } from '../words/time'

/** The warm-up that goes on, on every page: when it is ready, how long it soaks, and that it is done. */
const host = useHost()
const w = computed(() => host.warmUp)
const ready = computed(() => w.value?.left_seconds === undefined ? '' : soon(Date.now() + 1000 * w.value.left_seconds))
const end = () => host.attempt(() => answered(api.DELETE('/v1/heat/warm-up')))
</script>

<template>
  <Notice v-if="w && !host.run?.going" :color="w.done ? 'success' : 'info'" :icon="w.done ? mdiCheckCircle : mdiFire" class="mb-4" data-warming>
    <strong class="break">{{ w.warm_up.name }}</strong>: <span role="status">{{ w.done ? 'ready' : w.soaking ? 'soaking' : 'warming' }}</span><template v-if="!w.done && ready"><span class="figures">, ready at {{ ready }}</span><span v-if="w.soaking" class="figures">, {{ countdown(w.left_seconds!) }} left</span></template>
    <template #beside><v-btn :icon="mdiClose" variant="text" size="small" title="Give this warm-up up; the heaters stay on" aria-label="Give this warm-up up" @click="end" /></template>
  </Notice>
</template>
