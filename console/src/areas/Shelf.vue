<script setup lang="ts">
import { mdiDeleteOutline, mdiDownload, mdiPlay, mdiUpload } from '@mdi/js'
import { onMounted, ref, useTemplateRef } from 'vue'
import { useRouter } from 'vue-router'

import { answered, api, inWords, type Problem, type Schemas, upload } from '../api/client'
import { useHost } from '../live/host'
import { size, span } from '../live/words'

interface Arrival { file: File, share: number, problem?: Problem, done: boolean }

const host = useHost()
const router = useRouter()
const files = ref<Schemas['File'][]>()
const arrivals = ref<Arrival[]>([])
const over = ref(false)
const chosen = ref<Schemas['File']>()
const removing = ref<string>()
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
  removing.value = undefined
  await host.attempt(() => answered(api.DELETE('/v1/shelf/{name}', { params: { path: { name } } })))
  await load()
}

const content = (name: string) => `/v1/shelf/${encodeURIComponent(name)}/content`
const blocked = (f: Schemas['File']) => f.checks?.some(c => c.level === 'block') ?? false
</script>

<template>
  <div
    class="drop mb-4" :class="{ over }" role="button" tabindex="0" aria-label="Choose G-code files to store"
    @click="picker?.click()" @keydown.enter="picker?.click()" @dragover.prevent="over = true" @dragleave="over = false" @drop.prevent="take($event.dataTransfer?.files)"
  >
    <v-icon :icon="mdiUpload" class="me-2" />Drop G-code here, or tap to choose
    <input ref="picker" type="file" multiple hidden @change="take(picker?.files)">
  </div>
  <v-card v-for="a in arrivals" :key="a.file.name" class="mb-3">
    <v-card-text>
      <div class="break mb-2">{{ a.file.name }} · {{ size(a.file.size) }}</div>
      <v-progress-linear v-if="!a.problem" :model-value="a.share * 100" color="primary" height="8" rounded :aria-label="`Sending ${a.file.name}`" />
      <template v-else>
        <p class="text-error break" role="alert">{{ inWords(a.problem) }}</p>
        <v-btn v-if="a.problem.status === 409" size="small" variant="tonal" color="error" class="me-2" @click="send(a, true)">Replace it</v-btn>
        <v-btn size="small" variant="text" @click="dismiss(a)">Dismiss</v-btn>
      </template>
    </v-card-text>
  </v-card>
  <v-card v-if="files?.length" data-shelf>
    <v-list lines="two">
      <v-list-item v-for="f in files" :key="f.name" :data-file="f.name" @click="look(f.name)">
        <div class="break">{{ f.name }}</div>
        <v-list-item-subtitle class="figures">{{ size(f.size) }} · {{ f.layers }} layers · moves {{ span(f.duration_seconds) }} · {{ f.filament_g.toFixed(0) }} g</v-list-item-subtitle>
        <template #append>
          <v-btn :icon="mdiDownload" variant="text" size="40" :href="content(f.name)" :title="`Download ${f.name}`" class="d-none d-sm-inline-flex" @click.stop />
          <v-btn :icon="mdiDeleteOutline" variant="text" size="40" :title="`Delete ${f.name}`" @click.stop="removing = f.name" />
          <v-btn :icon="mdiPlay" variant="tonal" color="primary" size="40" :title="`Start ${f.name}`" @click.stop="look(f.name)" />
        </template>
      </v-list-item>
    </v-list>
  </v-card>
  <v-card v-else-if="files"><v-card-text class="py-6">The shelf is empty.</v-card-text></v-card>

  <v-dialog :model-value="chosen !== undefined" max-width="520" @update:model-value="chosen = undefined">
    <v-card v-if="chosen" data-start>
      <v-card-title class="break text-wrap px-6 pt-5">{{ chosen.name }}</v-card-title>
      <v-card-text class="figures">
        <p>{{ chosen.layers }} layers of {{ chosen.layer_height.toFixed(2) }} mm · moves take {{ span(chosen.duration_seconds) }}</p>
        <p>{{ (chosen.filament_mm / 1000).toFixed(2) }} m of filament, {{ chosen.filament_g.toFixed(1) }} g</p>
        <p v-if="chosen.extent">{{ (chosen.extent.max[0]! - chosen.extent.min[0]!).toFixed(0) }} × {{ (chosen.extent.max[1]! - chosen.extent.min[1]!).toFixed(0) }} × {{ chosen.extent.max[2]!.toFixed(1) }} mm, priming included</p>
        <p>Warms to <span v-for="(v, h, i) in chosen.setpoints" :key="h">{{ i ? ', ' : '' }}{{ h }} {{ v }} °C</span></p>
        <v-alert v-for="c in chosen.checks" :key="c.title" :type="c.level === 'block' ? 'error' : c.level === 'warn' ? 'warning' : 'info'" variant="tonal" density="compact" class="mt-2">
          {{ c.title }}: {{ c.do }}
        </v-alert>
      </v-card-text>
      <v-card-actions class="flex-wrap">
        <v-btn variant="text" :prepend-icon="mdiDownload" :href="content(chosen.name)">Download</v-btn>
        <v-spacer />
        <v-btn variant="text" @click="chosen = undefined">Not now</v-btn>
        <v-btn variant="flat" color="primary" :prepend-icon="mdiPlay" :disabled="blocked(chosen)" @click="start(chosen.name)">Start</v-btn>
      </v-card-actions>
    </v-card>
  </v-dialog>
  <v-dialog :model-value="removing !== undefined" max-width="420" @update:model-value="removing = undefined">
    <v-card title="Delete this file?">
      <v-card-text class="break">{{ removing }}</v-card-text>
      <v-card-actions>
        <v-btn variant="text" @click="removing = undefined">Keep it</v-btn>
        <v-btn variant="flat" color="error" @click="remove(removing!)">Delete</v-btn>
      </v-card-actions>
    </v-card>
  </v-dialog>
</template>

<style scoped>
.drop { border: 2px dashed rgba(var(--v-theme-primary), 0.5); border-radius: 12px; padding: 22px; text-align: center; cursor: pointer; }
.drop.over, .drop:focus-visible { background: rgba(var(--v-theme-primary), 0.1); outline: none; border-style: solid; }
</style>
