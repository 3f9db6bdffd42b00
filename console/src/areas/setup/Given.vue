<script setup lang="ts">
import { computed } from 'vue'

/** What becomes of whom somebody has let in, when they are let in no more. */
export type Becomes = 'end' | 'end-all' | 'take-over'
const { given, made } = defineProps<{ given: string[], made: string[] }>()
const becomes = defineModel<Becomes>({ required: true })
const choices = computed(() => {
  if (!given.length) return [{ value: 'end', title: 'The accounts stay' }, { value: 'end-all', title: 'The accounts go, too' }]
  const accounts = made.length ? '; the accounts stay' : ''
  return [
    { value: 'end', title: `They end, too${accounts}` },
    ...(made.length ? [{ value: 'end-all', title: 'They end, and the accounts go' }] : []),
    { value: 'take-over', title: `They stay, and are let in by you${accounts}` },
  ]
})
</script>

<template>
  <div v-if="given.length || made.length" class="mt-3" data-given>
    <p v-if="given.length" class="mb-1">Let in by it: <strong class="break">{{ given.join(', ') }}</strong>.</p>
    <p v-if="made.length" class="mb-1">Accounts that it made: <strong class="break">{{ made.join(', ') }}</strong>.</p>
    <v-radio-group v-model="becomes" hide-details density="compact" aria-label="What becomes of them">
      <v-radio v-for="c in choices" :key="c.value" :value="c.value" :label="c.title" />
    </v-radio-group>
  </div>
</template>
