<script setup lang="ts">
import { mdiMagnify } from '@mdi/js'
import { defineAsyncComponent, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { keys } from './find'

/** Finding anything, and the keys that mean something on every page. */
const router = useRouter()
const shown = ref<'' | 'find' | 'keys'>('')
const wanted = ref(false)
const Finder = defineAsyncComponent(() => import('./Finder.vue'))
watch(shown, () => { wanted.value = true })

/** Keys mean nothing while somebody types, or while a question is open. */
function key(e: KeyboardEvent) {
  const el = e.target as HTMLElement
  if (e.ctrlKey || e.altKey || e.metaKey || e.defaultPrevented || el.closest('input, textarea, select, [contenteditable], .v-overlay--active')) return
  const k = keys.find(m => m.key === e.key)
  if (!k) return
  e.preventDefault()
  if (k.to) void router.push(k.to)
  else shown.value = e.key === '/' ? 'find' : 'keys'
}
onMounted(() => { window.addEventListener('keydown', key) })
onBeforeUnmount(() => { window.removeEventListener('keydown', key) })
</script>

<template>
  <v-btn :icon="mdiMagnify" variant="text" aria-label="Find anything" title="Find anything: /" data-find-all @click="shown = 'find'" />
  <Finder v-if="wanted" v-model="shown" />
</template>
