<script setup lang="ts">
/** Something that a person should know: a colour, an icon, words, and what to do about it beside them. */
const { color, icon } = defineProps<{ color: string, icon: string }>()
</script>

<template>
  <div class="notice" :style="{ '--ink': `var(--v-theme-${color})` }">
    <v-icon :icon="icon" class="icon" aria-hidden="true" />
    <div class="words break"><slot /></div>
    <div v-if="$slots.beside" class="beside"><slot name="beside" /></div>
  </div>
</template>

<style scoped>
.notice { display: flex; flex-wrap: wrap; align-items: center; gap: 12px; padding: 12px 14px; border-radius: 12px; border: 2px solid rgb(var(--ink)); background: rgb(var(--v-theme-surface)); }
.icon { color: rgb(var(--ink)); align-self: flex-start; }
.words { flex: 1 1 220px; min-width: 0; }
.beside:empty { display: none; }
@media (max-width: 599px) { .beside { margin-inline-start: 36px; } } /* below the words, not below the icon */
</style>
