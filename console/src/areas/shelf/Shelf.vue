<script setup lang="ts">
import { mdiDeleteOutline, mdiDownload, mdiPlay, mdiUpload } from '@mdi/js'
import { computed, onMounted, ref, useTemplateRef } from 'vue'
import { useRouter } from 'vue-router'

import { answered, api, inWords, type Problem, type Schemas, upload } from '../../api/client'
import { useHost } from '../../live/host'
import Ask from '../../ui/Ask.vue'
import Page from '../../ui/Page.vue'
import Panel from '../../ui/Panel.vue'
import { size } from '../../words/numbers'
import { span } from '../../words/time'
import Start from './Start.vue'

interface Arrival { file: File, share: number, problem?: Problem, done: boolean }

const host = useHost()
const router = useRouter()
const files = ref<Schemas['File'][]>()
const arrivals = ref<Arrival[]>([])
const over = ref(false)
const chosen = ref<Schemas['File']>()
const removing = ref('')
const asking = computed({ get: () => removing.value !== '', set: open => { if (!open) removing.value = '' } })
const picker = useTemplateRef<HTMLInputElement>('picker')

const load = () => host.attempt(async () => { files.value = (await answered(api.GET('/v1/shelf'))).files })
onMounted(load)

async function take(list: FileList | null | undefined) {
  over.value = false
  for (const file of list ?? []) await send({ file, share: 0, done: false }, false)
}

async function send(a: Arrival, replace: boolean) {
  arrivals.value = [...arrivals.value.filter(other => other.file !== a.file), a]
  const shown = arrivals.value.at(-1)!
  shown.problem = undefined
  try {
    await upload(a.file, replace, share => { shown.share = share })
    shown.share = 1
    shown.done = true
    arrivals.value = arrivals.value.filter(other => other.file !== a.file)
    await load()
  } catch (p) {
    shown.problem = p as Problem
  }
}

function dismiss(a: Arrival) { arrivals.value = arrivals.value.filter(other => other.file !== a.file) }

const look = (name: string) => host.attempt(async () => {
  chosen.value = await answered(api.GET('/v1/shelf/{name}', { params: { path: { name } } }))
})

async function start(name: string) {
  chosen.value = undefined
  if (await host.start(name)) await router.push('/bench')
}

async function remove(name: string) {
  await host.attempt(() => answered(api.DELETE('/v1/shelf/{name}', { params: { path: { name } } })))
  await load()
}

const content = (name: string) => `/v1/shelf/${encodeURIComponent(name)}/content`
</script>

<template>
  <Page title="Shelf" :loading="!files">
    <div class="drop" :class="{ over }" @dragover.prevent="over = true" @dragleave="over = false" @drop.prevent="take($event.dataTransfer?.files)">
      <v-btn variant="text" color="primary" size="large" :prepend-icon="mdiUpload" @click="picker?.click()">Drop G-code here, or tap to choose</v-btn>
      <input ref="picker" type="file" multiple hidden aria-label="G-code files to store" @change="take(picker?.files)">
    </div>
    <Panel v-for="a in arrivals" :key="a.file.name">
      <div class="break mb-2">{{ a.file.name }} · {{ size(a.file.size) }}</div>
      <v-progress-linear v-if="!a.problem" :model-value="a.share * 100" color="primary" height="8" rounded :aria-label="`Sending ${a.file.name}`" />
      <template v-else>
        <p class="text-error break" role="alert">{{ inWords(a.problem) }}</p>
        <v-btn v-if="a.problem.status === 409" size="small" variant="tonal" color="error" class="me-2" @click="send(a, true)">Replace it</v-btn>
        <v-btn size="small" variant="text" @click="dismiss(a)">Dismiss</v-btn>
      </template>
    </Panel>
    <Panel v-if="files?.length" title="Files" data-shelf>
      <ul class="files">
        <li v-for="f in files" :key="f.name">
          <button type="button" class="file" :data-file="f.name" @click="look(f.name)">
            <span class="break name">{{ f.name }}</span>
            <span class="text-body-small text-medium-emphasis figures"><span class="text-no-wrap">{{ f.layers }} layers</span> · <span class="text-no-wrap">moves {{ span(f.duration_seconds) }}</span> · <span class="text-no-wrap">{{ f.filament_g.toFixed(0) }} g</span> · <span class="text-no-wrap">{{ size(f.size) }}</span></span>
          </button>
          <v-btn :icon="mdiDownload" variant="text" size="40" :href="content(f.name)" :title="`Download ${f.name}`" :aria-label="`Download ${f.name}`" class="d-none d-sm-inline-flex" />
          <v-btn :icon="mdiDeleteOutline" variant="text" size="40" :title="`Delete ${f.name}`" :aria-label="`Delete ${f.name}`" @click="removing = f.name" />
          <v-btn :icon="mdiPlay" variant="tonal" color="primary" size="40" :title="`Start ${f.name}`" :aria-label="`Start ${f.name}`" @click="look(f.name)" />
        </li>
      </ul>
    </Panel>
    <Panel v-else data-empty>
      <h2 class="text-headline-medium mb-1">The shelf is empty</h2>
      <p class="text-medium-emphasis mb-0">Drop a sliced file above, or send one from a terminal: <code>diathermon send cap.gcode</code>.</p>
    </Panel>
    <Start v-model="chosen" @start="start" />
    <Ask v-model="asking" title="Delete this file?" no="Keep it" yes="Delete" @yes="remove(removing)">{{ removing }}</Ask>
  </Page>
</template>

<style scoped>
.drop { border: 2px dashed rgba(var(--v-theme-primary), 0.6); border-radius: 12px; padding: 12px; text-align: center; }
.drop.over, .drop:focus-within { background: rgba(var(--v-theme-primary), 0.1); border-style: solid; }
.files { list-style: none; padding: 0; margin: 0; display: grid; gap: 6px; }
.files li { display: flex; align-items: center; gap: 8px; }
.file { flex: 1 1 0; min-width: 0; text-align: left; display: flex; flex-direction: column; padding: 8px; border-radius: 8px; border: 0; background: none; font: inherit; color: inherit; cursor: pointer; }
.file:hover { background: rgba(var(--v-theme-primary), 0.08); }
.name { font-weight: 500; }
</style>
