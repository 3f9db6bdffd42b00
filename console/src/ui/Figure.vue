<script setup lang="ts">
/** A figure with its name above it. */
const { name } = defineProps<{ name: string }>()
</script>

<template>
  <div class="figures">
    <dt class="text-body-small text-medium-emphasis">{{ name }}</dt>
    <dd class="text-title-medium text-no-wrap"><slot /></dd>
  </div>
</template>
