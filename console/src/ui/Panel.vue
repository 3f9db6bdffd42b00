<script setup lang="ts">
import { useId } from 'vue'

/** A part of a page with a heading, and things to do beside that. */
const { title = '' } = defineProps<{ title?: string }>()
const id = useId()
</script>

<template>
  <v-card tag="section" :aria-labelledby="title ? id : undefined">
    <div v-if="title || $slots.beside" class="head">
      <h2 v-if="title" :id="id" class="text-title-medium">{{ title }}</h2>
      <slot name="beside" />
    </div>
    <div class="body" :class="{ under: title || $slots.beside }"><slot /></div>
  </v-card>
</template>

<style scoped>
.head { display: flex; flex-wrap: wrap; align-items: center; justify-content: space-between; gap: 8px 12px; padding: 14px 16px 0; }
.body { padding: 16px; }
.body.under { padding-top: 10px; }
</style>
