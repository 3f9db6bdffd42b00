<script setup lang="ts">
import { computed } from 'vue'
import { useTheme } from 'vuetify'

import { tint } from '../words/heaters'

/** A temperature in the colour of its heat. */
const { celsius = undefined } = defineProps<{ celsius?: number }>()
const theme = useTheme()
const colour = computed(() => celsius === undefined ? undefined : tint(celsius, theme.current.value.dark))
</script>

<template>
  <span class="figures text-no-wrap" :style="{ color: colour }">{{ celsius?.toFixed(1) ?? '–' }}<span v-if="celsius !== undefined" class="unit">&nbsp;°C</span></span>
</template>

<style scoped>
.unit { font-size: 0.55em; }
</style>
