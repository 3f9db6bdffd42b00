<script setup lang="ts">
import type { Shown } from '../words/states'

/** A state by its word, its icon and its colour. */
const { shown } = defineProps<{ shown: Shown }>()
</script>

<template>
  <span class="state" :style="{ color: `rgb(var(--v-theme-${shown.color}))` }"><v-icon :icon="shown.icon" size="16" aria-hidden="true" />{{ shown.word }}</span>
</template>

<style scoped>
.state { display: inline-flex; align-items: center; gap: 5px; font-size: 0.84rem; font-weight: 600; white-space: nowrap; }
</style>
