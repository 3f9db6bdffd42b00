<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { parse } from '../words/numbers'

/** A number with its unit and bounds, typed with a point or a comma. It is undefined while it is none that may be. */
const { label, unit = '', least = 0, most = Infinity, whole = false, disabled = false } = defineProps<{ label: string, unit?: string, least?: number, most?: number, whole?: boolean, disabled?: boolean }>()
const value = defineModel<number>()
const text = ref(value.value === undefined ? '' : String(value.value))

const wrong = computed(() => {
  if (text.value.trim() === '') return ''
  const n = parse(text.value)
  if (n === undefined || whole && !Number.isInteger(n)) return whole ? 'a whole number' : `a number${unit ? ` of ${unit}` : ''}`
  if (n < least) return `at least ${least}${unit ? ` ${unit}` : ''}`
  return n > most ? `at most ${most}${unit ? ` ${unit}` : ''}` : ''
})

let told: number | undefined = value.value
watch([text, wrong], () => {
  told = wrong.value ? undefined : parse(text.value)
  value.value = told
})
watch(value, now => { // of somebody else's making
  if (now === told) return
  told = now
  text.value = now === undefined ? '' : String(now)
})
</script>

<template>
  <v-text-field v-model="text" :label="label" :suffix="unit" inputmode="decimal" autocomplete="off" :error-messages="wrong" :disabled="disabled" />
</template>
