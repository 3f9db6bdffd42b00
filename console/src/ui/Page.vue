<script setup lang="ts">
import { mdiAlertCircle } from '@mdi/js'
import { watchEffect } from 'vue'

import { useHost } from '../live/host'
import Notice from './Notice.vue'

/** The frame of every page: its title, and what is shown while it loads or when that went wrong. */
const { title, loading = false, problem = '' } = defineProps<{ title: string, loading?: boolean, problem?: string }>()
const host = useHost()
watchEffect(() => { document.title = [host.printer?.name, title, 'Diathermon'].filter(Boolean).join(' · ') })
</script>

<template>
  <div class="stack">
    <h1 class="unseen">{{ title }}</h1>
    <Notice v-if="problem" color="error" :icon="mdiAlertCircle"><span role="alert">{{ problem }}</span></Notice>
    <p v-if="loading && !problem" class="text-medium-emphasis py-8 text-center" role="status">Asking the host…</p>
    <slot v-else-if="!loading" />
  </div>
</template>
