<script setup lang="ts">
import { onMounted } from 'vue'

import { inWords } from '../api/client'
import { useHost } from '../live/host'
import Alarms from './Alarms.vue'
import { areas } from './areas'
import Asking from './Asking.vue'
import Find from './Find.vue'
import Halt from './Halt.vue'
import LinkState from './LinkState.vue'
import Performing from './Performing.vue'
import Spoken from './Spoken.vue'
import Warming from './Warming.vue'

const host = useHost()
onMounted(host.listen)
</script>

<template>
  <v-app>
    <a class="skip" href="#page">To the page</a>
    <header class="bar">
      <div class="printer">
        <strong class="text-title-large text-truncate">{{ host.printer?.name ?? 'Diathermon' }}</strong>
        <LinkState />
      </div>
      <Find />
      <Halt />
    </header>
    <nav class="areas" aria-label="Areas">
      <router-link v-for="a in areas" :key="a.to" :to="a.to"><v-icon :icon="a.icon" aria-hidden="true" /><span>{{ a.title }}</span></router-link>
    </nav>
    <main id="page" tabindex="-1">
      <Alarms />
      <Asking />
      <Performing />
      <Warming />
      <router-view />
    </main>
    <Spoken />
    <v-snackbar :model-value="host.problem !== undefined" :timeout="-1" color="error" location="top" @update:model-value="host.problem = undefined">
      <span role="alert">{{ host.problem ? inWords(host.problem) : '' }}</span>
      <template #actions><v-btn variant="text" @click="host.problem = undefined">Dismiss</v-btn></template>
    </v-snackbar>
  </v-app>
</template>

<style scoped>
.bar {
  position: sticky; top: 0; z-index: 2600; height: 64px; padding: 0 12px 0 16px; display: flex; align-items: center; gap: 12px;
  background: rgb(var(--v-theme-surface)); border-bottom: 1px solid rgba(var(--v-border-color), var(--v-border-opacity));
}
.printer { display: flex; align-items: center; gap: 12px; flex: 1 1 0; min-width: 0; }
.areas { position: fixed; z-index: 1009; background: rgb(var(--v-theme-surface)); display: flex; }
.areas a { display: flex; align-items: center; color: rgb(var(--v-theme-on-surface)); text-decoration: none; gap: 12px; }
.areas a.router-link-active { color: rgb(var(--v-theme-primary)); font-weight: 600; }
main { outline: none; padding: 16px; max-width: 1280px; width: 100%; }
.skip { position: absolute; left: -999px; }
.skip:focus { left: 16px; top: 16px; z-index: 2000; background: rgb(var(--v-theme-surface)); padding: 8px; }
@media (min-width: 960px) {
  .areas { top: 64px; bottom: 0; left: 0; width: 148px; flex-direction: column; padding: 12px 8px; gap: 4px; border-right: 1px solid rgba(var(--v-border-color), var(--v-border-opacity)); }
  .areas a { padding: 10px 12px; border-radius: 8px; }
  .areas a.router-link-active { background: rgba(var(--v-theme-primary), 0.1); }
  main { padding: 20px; margin-left: 148px; width: calc(100% - 148px); }
}
@media (max-width: 959px) {
  .areas { bottom: 0; left: 0; right: 0; height: 60px; padding-bottom: env(safe-area-inset-bottom); box-sizing: content-box; border-top: 1px solid rgba(var(--v-border-color), var(--v-border-opacity)); }
  .areas a { flex: 1 1 0; flex-direction: column; justify-content: center; gap: 2px; font-size: 0.78rem; }
  main { padding-bottom: calc(76px + env(safe-area-inset-bottom)); }
}
@media (max-width: 599px) { main { padding-left: 12px; padding-right: 12px; } }
</style>
