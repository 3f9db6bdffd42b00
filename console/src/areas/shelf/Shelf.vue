<script setup lang="ts">
import { mdiBroom, mdiCheckboxMultipleMarkedOutline, mdiDeleteOutline, mdiMagnify, mdiUpload } from '@mdi/js'
import { computed, onMounted, ref, useTemplateRef } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { answered, api, inWords, type Problem, type Schemas, upload } from '../../api/client'
import { useHost } from '../../live/host'
import { useKept } from '../../live/kept'
import { useIntervalFn } from '../../live/interval'
import Ask from '../../ui/Ask.vue'
import Page from '../../ui/Page.vue'
import Panel from '../../ui/Panel.vue'
import { sentence, size } from '../../words/numbers'
import Edit from './Edit.vue'
import { find, type Order, orders } from './find'
import Item from './Item.vue'
import Start from './Start.vue'

interface Arrival { file: File, share: number, problem?: Problem, done: boolean }

const host = useHost()
const router = useRouter()
const route = useRoute()
const shelf = ref<Schemas['Shelf']>()
const words = ref('')
const order = useKept<Order>('shelf.order', 'newest', o => o in orders)
const choosing = ref(false)
const picked = ref<string[]>([])
const editing = ref<Schemas['File']>()
const arrivals = ref<Arrival[]>([])
const over = ref(false)
const chosen = ref<Schemas['File']>()
const removing = ref<string[]>([])
const asking = computed({ get: () => removing.value.length > 0, set: open => { if (!open) removing.value = [] } })
const picker = useTemplateRef<HTMLInputElement>('picker')

const files = computed(() => shelf.value?.files ?? [])
const shown = computed(() => find(files.value, words.value, order.value))
const tags = computed(() => [...new Set(files.value.flatMap(f => f.tags))].sort())
const unused = computed(() => files.value.filter(f => shelf.value?.disk.unused.includes(f.name)))
const full = computed(() => {
  const d = shelf.value?.disk
  return d ? 100 * (1 - d.free_bytes / Math.max(d.total_bytes, 1)) : 0
})

/** What other programs send now; what this page sends is shown by itself. */
const others = computed(() => (shelf.value?.coming ?? []).filter(c => !arrivals.value.some(a => a.file.name === c.name)))

const load = () => host.attempt(async () => { shelf.value = await answered(api.GET('/v1/shelf')) })
onMounted(async () => {
  await load()
  if (typeof route.query.start === 'string') await look(route.query.start) // from another page
})
useIntervalFn(() => { if (!document.hidden && !arrivals.value.length) void load() }, 10000)
useIntervalFn(() => { if (others.value.length || files.value.some(f => f.survey.state === 'waiting' || f.survey.state === 'surveying')) void load().then(() => { if (chosen.value && chosen.value.survey.state !== 'done') void look(chosen.value.name) }) }, 1500)

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

const look = (name: string, slots?: number[]) => host.attempt(async () => {
  chosen.value = await answered(api.GET('/v1/shelf/{name}', { params: { path: { name }, query: { slots } } }))
})

async function start(order: Schemas['StartRun']) {
  chosen.value = undefined
  if (await host.start(order)) await router.push('/bench')
}

async function wait(file: string) {
  chosen.value = undefined
  if (await host.attempt(() => answered(api.POST('/v1/queue', { body: { file, copies: 1 } })))) await router.push('/bench')
}

async function remove(names: string[]) {
  for (const name of names) await host.attempt(() => answered(api.DELETE('/v1/shelf/{name}', { params: { path: { name } } })))
  leave()
  await load()
}

function leave() {
  choosing.value = false
  picked.value = []
}

function pick(name: string, on: boolean) { picked.value = on ? [...picked.value, name] : picked.value.filter(n => n !== name) }

function tidy() {
  choosing.value = true
  picked.value = unused.value.map(f => f.name)
}

const total = (of: Schemas['File'][]) => size(of.reduce((sum, f) => sum + f.size, 0))
const counted = (n: number) => n === 1 ? 'one file' : `${n} files`
</script>

<template>
  <Page title="Shelf" :loading="!shelf">
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
    <Panel v-for="c in others" :key="c.name + c.since" data-coming>
      <div class="break mb-2">{{ c.name }}, from {{ c.sender }} · {{ size(c.received_bytes) }}{{ c.size ? ` of ${size(c.size)}` : '' }}</div>
      <v-progress-linear :model-value="c.size ? c.received_bytes / c.size * 100 : 0" :indeterminate="!c.size" color="primary" height="8" rounded :aria-label="`${c.name} is on its way`" />
    </Panel>
    <template v-if="files.length">
      <div class="bar">
        <template v-if="!choosing">
          <v-text-field v-model="words" class="search" label="Find" :prepend-inner-icon="mdiMagnify" clearable data-find />
          <v-select v-model="order" class="order" label="Order" :items="Object.entries(orders).map(([value, o]) => ({ value, title: o.title }))" />
          <v-btn variant="text" :prepend-icon="mdiCheckboxMultipleMarkedOutline" @click="choosing = true">Several</v-btn>
        </template>
        <template v-else>
          <strong class="figures">{{ counted(picked.length) }} chosen</strong>
          <v-spacer />
          <v-btn variant="tonal" color="error" :prepend-icon="mdiDeleteOutline" :disabled="!picked.length" @click="removing = picked">Delete</v-btn>
          <v-btn variant="text" @click="leave">Done</v-btn>
        </template>
      </div>
      <div v-if="tags.length && !choosing" class="tags">
        <v-chip v-for="t in tags" :key="t" size="small" variant="outlined" @click="words = words === t ? '' : t">{{ t }}</v-chip>
      </div>
      <ul class="files" data-shelf>
        <Item
          v-for="f in shown" :key="f.name" :file="f" :choosing="choosing" :model-value="picked.includes(f.name)" @update:model-value="pick(f.name, $event)"
          @look="look(f.name)" @layers="router.push(`/shelf/${encodeURIComponent(f.name)}`)" @edit="editing = f" @remove="removing = [f.name]"
        />
      </ul>
      <p v-if="!shown.length" class="text-medium-emphasis text-center py-6" role="status">Nothing on the shelf is called that.</p>
      <Panel v-if="shelf" title="Room">
        <p class="figures mb-2">The files take {{ size(shelf.disk.used_bytes) }}; {{ size(shelf.disk.free_bytes) }} of {{ size(shelf.disk.total_bytes) }} are free.</p>
        <v-progress-linear :model-value="full" :color="full > 90 ? 'error' : 'secondary'" height="8" rounded aria-label="The disk is so full" />
        <p v-if="unused.length" class="mt-3 mb-0">
          {{ sentence(counted(unused.length)) }} ({{ total(unused) }}) {{ unused.length === 1 ? 'was' : 'were' }} neither stored nor run for three months.
          <v-btn size="small" variant="tonal" class="ms-1" :prepend-icon="mdiBroom" @click="tidy">Choose {{ unused.length === 1 ? 'it' : 'them' }}</v-btn>
        </p>
      </Panel>
    </template>
    <Panel v-else data-empty>
      <h2 class="text-headline-medium mb-1">The shelf is empty</h2>
      <p class="text-medium-emphasis mb-0">Drop a sliced file above, or send one from a terminal: <code>diathermon send cap.gcode</code>.</p>
    </Panel>
    <Start v-model="chosen" @start="start" @wait="wait" @look="look" />
    <Edit v-model="editing" :known="tags" @changed="load" />
    <Ask v-model="asking" :title="removing.length > 1 ? `Delete ${removing.length} files?` : 'Delete this file?'" :no="removing.length > 1 ? 'Keep them' : 'Keep it'" yes="Delete" @yes="remove(removing)">
      <div v-for="name in removing" :key="name" class="break">{{ name }}</div>
    </Ask>
  </Page>
</template>

<style scoped>
.drop { border: 2px dashed rgba(var(--v-theme-primary), 0.6); border-radius: 12px; padding: 12px; text-align: center; }
.drop.over, .drop:focus-within { background: rgba(var(--v-theme-primary), 0.1); border-style: solid; }
.bar { display: flex; flex-wrap: wrap; align-items: center; gap: 8px; min-height: 44px; }
.search { flex: 1 1 220px; }
.order { flex: 0 1 190px; }
.tags { display: flex; flex-wrap: wrap; gap: 6px; }
.files { list-style: none; padding: 0; margin: 0; display: grid; grid-template-columns: repeat(auto-fill, minmax(250px, 1fr)); gap: 14px; }
@media (width < 600px) { .files { grid-template-columns: 1fr; gap: 10px; } }
</style>
