<script setup lang="ts">
import { computed } from 'vue'

import type { Way } from './connect'

/** How a file goes from a program to the shelf, drawn. */
const { way } = defineProps<{ way: Way }>()
const middle = computed(() => ({ http: 'address and header', command: 'diathermon send', folder: 'folder' }[way]))
</script>

<template>
  <svg viewBox="0 0 420 96" class="drawing" role="img" :aria-label="`The program, then ${middle}, then the shelf`">
    <g fill="none" stroke="currentColor" stroke-width="2" stroke-linejoin="round" stroke-linecap="round">
      <rect x="8" y="14" width="92" height="56" rx="8" /><path d="M8 28h92" /><path d="M30 58l24-22 24 22z" />
      <path v-if="way === 'folder'" d="M170 26h22l8 8h50v36h-80z" /><rect v-else x="164" y="22" width="92" height="44" rx="8" />
      <path v-if="way === 'command'" d="M176 36l8 8-8 8M190 54h14" /><path v-if="way === 'http'" d="M178 38h64M178 50h40" />
      <path d="M330 20v50h82V20M330 44h82" /><rect x="344" y="28" width="16" height="16" rx="2" /><rect x="368" y="54" width="20" height="16" rx="2" />
    </g>
    <g class="ember" fill="none" stroke-width="3" stroke-linecap="round"><path d="M108 44h46m-8-7 8 7-8 7" /><path d="M266 44h54m-8-7 8 7-8 7" /></g>
    <g fill="currentColor" font-size="13" text-anchor="middle"><text x="54" y="90">your program</text><text x="210" y="90">{{ middle }}</text><text x="371" y="90">shelf</text></g>
  </svg>
</template>

<style scoped>
.drawing { width: min(100%, 420px); height: auto; }
.ember path { stroke: rgb(var(--v-theme-primary)); }
</style>
