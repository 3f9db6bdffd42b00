<script setup lang="ts">
import { mdiAlertCircle, mdiBellOutline, mdiCheckCircle, mdiClose, mdiThermometerLow } from '@mdi/js'
import { computed, watch } from 'vue'
import { useRoute } from 'vue-router'

import { type Told, useNotices } from '../live/notices'
import { clock } from '../words/time'

/** What is told, over every page and below every dialog: what needs a person stays until it is dismissed. */
const notices = useNotices()
const route = useRoute()
/** The bench shows what becomes of a run by itself. */
const shown = computed(() => notices.shown.filter(n => route.path !== '/bench' || !n.run))
const icons: Partial<Record<Told['kind'], string>> = { done: mdiCheckCircle, cool: mdiThermometerLow, held: mdiAlertCircle, broken: mdiAlertCircle, interrupted: mdiAlertCircle }
const colour = (n: Told) => n.urgent ? 'error' : n.kind === 'done' ? 'success' : 'info'
const stays = 20_000
const timed = new Set<string>()
watch(() => notices.shown, now => {
  for (const n of now) {
    if (n.urgent || timed.has(n.id)) continue
    timed.add(n.id)
    setTimeout(notices.dismiss, stays, n.id)
  }
}, { deep: true })
</script>

<template>
  <aside v-if="shown.length" class="told" aria-label="Notices">
    <div v-for="n in shown" :key="n.id" class="one" :style="{ '--ink': `var(--v-theme-${colour(n)})` }" :role="n.urgent ? 'alert' : 'status'" :data-notice="n.kind">
      <v-icon :icon="icons[n.kind] ?? mdiBellOutline" class="icon" aria-hidden="true" />
      <div class="words break"><strong>{{ n.title }}</strong><div>{{ n.text }}</div><div class="text-body-small figures">{{ clock(n.at) }}</div></div>
      <v-btn :icon="mdiClose" variant="text" size="small" aria-label="Dismiss" @click="notices.dismiss(n.id)" />
    </div>
  </aside>
</template>

<style scoped>
.told { position: fixed; z-index: 1500; /* below every question */ right: 16px; bottom: 16px; width: min(400px, calc(100vw - 24px)); display: grid; gap: 8px; }
.one { display: flex; gap: 12px; align-items: flex-start; padding: 12px 6px 12px 14px; border-radius: 12px; border: 2px solid rgb(var(--ink)); background: rgb(var(--v-theme-surface)); box-shadow: 0 6px 24px rgba(0, 0, 0, 0.22); }
.icon { color: rgb(var(--ink)); }
.words { flex: 1; min-width: 0; }
@media (max-width: 959px) { .told { right: 12px; bottom: calc(70px + env(safe-area-inset-bottom)); } }
</style>
