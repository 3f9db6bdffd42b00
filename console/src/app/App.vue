<script setup lang="ts">
import { defineAsyncComponent, onMounted, watchEffect } from 'vue'
import { useRouter } from 'vue-router'

import { answered, api } from '../api/client'
import { useHost } from '../live/host'
import { useMe } from '../live/me'
import Alarms from './Alarms.vue'
import { areas } from './areas'
import Asking from './Asking.vue'
import Find from './Find.vue'
import Halt from './Halt.vue'
import { icon } from './icon'
import LinkState from './LinkState.vue'
import Notices from './Notices.vue'
import Performing from './Performing.vue'
import Spoken from './Spoken.vue'
import Warming from './Warming.vue'

const Trouble = defineAsyncComponent(() => import('./Trouble.vue'))
const host = useHost()
const me = useMe()
const router = useRouter()
onMounted(host.listen)
onMounted(async () => { // who keeps a fresh host is led through describing its printer
  await me.load()
  await me.look()
  await router.isReady()
  if (me.keeps && router.currentRoute.value.path === '/bench' && (await answered(api.GET('/v1/printer')).catch(() => undefined))?.guide.state === 'open') await router.push('/setup/guide')
})
/** The tab shows which printer it is. */
watchEffect(() => { document.querySelector<HTMLLinkElement>('link[rel=icon]')!.href = icon(host.printer?.colour) })
</script>

<template>
  <v-app>
    <a class="skip" href="#page">To the page</a>
    <header class="bar" :style="host.printer?.colour ? { '--printer': host.printer.colour } : {}">
      <div class="printer">
        <span v-if="host.printer?.colour" class="colour" aria-hidden="true" />
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
    <Notices />
    <Spoken />
    <Trouble v-if="host.problem" />
  </v-app>
</template>

<style scoped>
.bar {
  position: sticky; top: 0; z-index: 2600; height: 64px; padding: 0 12px 0 16px; display: flex; align-items: center; gap: 12px;
  background: rgb(var(--v-theme-surface)); border-bottom: 1px solid rgba(var(--v-border-color), var(--v-border-opacity));
}
.bar::before { content: ''; position: absolute; inset: 0 0 auto; height: 5px; background: var(--printer, transparent); }
.colour { flex: none; width: 16px; height: 28px; border-radius: 5px; background: var(--printer); border: 1px solid rgba(var(--v-border-color), 0.35); margin-inline-end: -4px; }
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
