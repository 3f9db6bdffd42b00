<script setup lang="ts">
import { onMounted, ref, watch } from 'vue'

import { api, type Schemas } from '../../api/client'
import { useHost } from '../../live/host'
import Paced from '../../ui/Paced.vue'
import Panel from '../../ui/Panel.vue'
import { span } from '../../words/time'
import Picture from '../shelf/Picture.vue'

/** The files that came last, to be started with a touch while nothing is printed. */
const host = useHost()
const most = 4
const files = ref<Schemas['File'][]>([])
const load = () => api.GET('/v1/shelf').then(({ data }) => {
  files.value = [...data?.files ?? []].sort((a, b) => b.stored.localeCompare(a.stored)).slice(0, most)
}, () => undefined)
onMounted(load)
watch(() => [host.changes.queue, host.run?.state], load)
</script>

<template>
  <Panel title="Newest on the shelf" data-newest>
    <template #beside><v-btn variant="text" color="primary" size="small" to="/shelf">All of it</v-btn></template>
    <p v-if="!files.length" class="mb-0 text-medium-emphasis">Nothing is stored yet: <router-link to="/shelf">drop a file</router-link>, or send one from your slicer.</p>
    <ul v-else class="files">
      <li v-for="f in files" :key="f.name">
        <router-link class="file" :to="{ path: '/shelf', query: { start: f.name } }" :title="f.name">
          <span class="frame"><Picture :file="f" :size="256" /></span>
          <span class="name break">{{ f.name }}</span>
          <span v-if="f.duration_seconds" class="text-body-small text-medium-emphasis figures">{{ span(f.duration_seconds) }}<Paced :seconds="f.duration_seconds" /></span>
        </router-link>
      </li>
    </ul>
  </Panel>
</template>

<style scoped>
.files { list-style: none; margin: 0; padding: 0; display: grid; gap: 12px; grid-template-columns: repeat(auto-fill, minmax(124px, 1fr)); }
.file { display: grid; gap: 2px; color: inherit; text-decoration: none; border-radius: 8px; }
.file:hover .name { text-decoration: underline; }
.frame { height: 96px; }
.name { font-size: 0.9rem; font-weight: 600; }
</style>
