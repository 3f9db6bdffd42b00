<script setup lang="ts">
import { mdiCubeOutline } from '@mdi/js'
import { onBeforeUnmount, ref, watch } from 'vue'

import { at } from '../../api/base'
import type { Schemas } from '../../api/client'

/** What a file lays down, as the host has drawn it; a place for it until then. */
const { file, size } = defineProps<{ file: Pick<Schemas['File'], 'name' | 'digest'> & Partial<Pick<Schemas['File'], 'survey'>>, size: 64 | 256 | 800 }>()
const missing = ref(false)
const tries = ref(0)
watch(() => file.digest, () => { missing.value = false; tries.value = 0 })

const mostTries = 60
/** A picture that is not drawn yet is asked for again: behind a long file that may be minutes later. */
let again = 0
function failed() {
  missing.value = true
  if (file.survey?.state === 'refused' || tries.value++ >= mostTries) return
  again = window.setTimeout(() => { missing.value = false }, Math.min(1 + tries.value / 2, 15) * 1000)
}
onBeforeUnmount(() => window.clearTimeout(again))
</script>

<template>
  <img v-if="!missing" class="picture" :src="at(`/v1/shelf/${encodeURIComponent(file.name)}/picture?size=${size}&of=${file.digest.slice(-12)}&try=${tries}`)" :width="size" :height="size" alt="" loading="lazy" decoding="async" @error="failed">
  <div v-else class="picture none"><v-icon :icon="mdiCubeOutline" size="40" aria-hidden="true" /></div>
</template>

<style scoped>
.picture { display: block; width: 100%; height: 100%; object-fit: contain; }
.none { display: grid; place-items: center; opacity: 0.35; }
</style>
