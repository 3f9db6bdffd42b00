<script setup lang="ts">
import { mdiCubeOutline } from '@mdi/js'
import { ref, watch } from 'vue'

import { at } from '../../api/base'
import type { Schemas } from '../../api/client'

/** What a file lays down, as the host has drawn it; a place for it until then. */
const { file, size } = defineProps<{ file: Pick<Schemas['File'], 'name' | 'digest'>, size: 64 | 256 | 800 }>()
const missing = ref(false)
const tries = ref(0)
watch(() => file.digest, () => { missing.value = false; tries.value = 0 })

/** A picture that is not drawn yet is asked for again, a few times. */
function failed() {
  missing.value = true
  if (tries.value++ < 8) window.setTimeout(() => { missing.value = false }, 1500)
}
</script>

<template>
  <img v-if="!missing" class="picture" :src="at(`/v1/shelf/${encodeURIComponent(file.name)}/picture?size=${size}&of=${file.digest.slice(-12)}&try=${tries}`)" :width="size" :height="size" alt="" loading="lazy" decoding="async" @error="failed">
  <div v-else class="picture none"><v-icon :icon="mdiCubeOutline" size="40" aria-hidden="true" /></div>
</template>

<style scoped>
.picture { display: block; width: 100%; height: 100%; object-fit: contain; }
.none { display: grid; place-items: center; opacity: 0.35; }
</style>
