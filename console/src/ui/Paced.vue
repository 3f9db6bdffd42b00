<script setup lang="ts">
import { computed } from 'vue'

import { useHost } from '../live/host'
import { span } from '../words/time'

/** How long a time of the printer's takes here, where its clock is another: a stand-in's. */
const { seconds } = defineProps<{ seconds: number }>()
const pace = computed(() => useHost().printer?.pace ?? 1)
</script>

<template>
  <span v-if="pace > 1" class="text-body-small text-medium-emphasis" data-paced>, {{ span(seconds / pace) }} here</span>
</template>
