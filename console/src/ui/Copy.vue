<script setup lang="ts">
import { mdiCheck, mdiContentCopy } from '@mdi/js'
import { ref } from 'vue'

/** A line to be copied into another program, with its name. */
const { name, text } = defineProps<{ name: string, text: string }>()
const done = ref(false)

async function copy(e: Event) {
  const field = (e.currentTarget as HTMLElement).parentElement?.querySelector('code')
  try {
    await navigator.clipboard.writeText(text)
  } catch { // without a secure context: what is chosen can be copied by hand, and by the old way
    if (field) getSelection()?.selectAllChildren(field)
    document.execCommand('copy')
  }
  done.value = true
  setTimeout(() => { done.value = false }, 2000)
}
</script>

<template>
  <div class="copy">
    <span class="name">{{ name }}</span>
    <code>{{ text }}</code>
    <v-btn variant="text" size="small" :icon="done ? mdiCheck : mdiContentCopy" :aria-label="done ? 'Copied' : `Copy: ${name}`" @click="copy" />
  </div>
</template>

<style scoped>
.copy { display: grid; grid-template-columns: minmax(0, 1fr) auto; align-items: center; gap: 0 8px; padding: 6px 8px 6px 12px; border: 1px solid rgba(var(--v-border-color), var(--v-border-opacity)); border-radius: 8px; }
.name { grid-column: 1 / -1; font-size: 0.78rem; opacity: 0.8; }
code { overflow-wrap: anywhere; white-space: pre-wrap; background: none; padding: 0; }
</style>
