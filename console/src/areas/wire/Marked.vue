<script setup lang="ts">
import { computed } from 'vue'

import { cut } from './rows'

/** A text in which what is looked for is marked. */
const { text, find } = defineProps<{ text: string, find: string }>()
const parts = computed(() => {
  const shown = cut(text)
  if (!find) return [{ text: shown, hit: false }]
  const out: { text: string, hit: boolean }[] = []
  const lower = shown.toLowerCase()
  let from = 0
  for (let at = lower.indexOf(find); at >= 0; at = lower.indexOf(find, from)) {
    out.push({ text: shown.slice(from, at), hit: false }, { text: shown.slice(at, at + find.length), hit: true })
    from = at + find.length
  }
  out.push({ text: shown.slice(from), hit: false })
  return out
})
</script>

<template><template v-for="(p, i) in parts" :key="i"><mark v-if="p.hit">{{ p.text }}</mark><template v-else>{{ p.text }}</template></template></template>
