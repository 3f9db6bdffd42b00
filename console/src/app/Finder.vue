<script setup lang="ts">
import { mdiMagnify } from '@mdi/js'
import { computed, nextTick, ref, useId, useTemplateRef, watch } from 'vue'
import { useRouter } from 'vue-router'

import { answered, api, type Schemas } from '../api/client'
import { useHost } from '../live/host'
import { runStates } from '../words/states'
import { moment } from '../words/time'
import { type Found, keys, settings } from './find'

/** One field that finds files, routines, settings, runs and G-code, and the map of the keys: loaded when it is wanted. */
const shown = defineModel<'' | 'find' | 'keys'>({ required: true })
const host = useHost()
const router = useRouter()
const id = useId()
const open = computed({ get: () => shown.value === 'find', set: on => { shown.value = on ? 'find' : '' } })
const mapped = computed({ get: () => shown.value === 'keys', set: on => { shown.value = on ? 'keys' : '' } })
const words = ref('')
const at = ref(0)
const field = useTemplateRef<{ focus: () => void }>('field')

const files = ref<Schemas['File'][]>([])
const routines = ref<Schemas['Routine'][]>([])
const runs = ref<Schemas['Run'][]>([])
const commands = ref<Schemas['Command'][]>([])
/** Each is asked for when the field is opened; what does not answer is not found, and keeps nothing else from it. */
async function load() {
  const take = async <T>(get: () => Promise<T>, then: (got: T) => void) => { then(await get()) }
  await Promise.allSettled([
    take(() => answered(api.GET('/v1/shelf')), s => { files.value = s.files }),
    take(() => answered(api.GET('/v1/routines')), r => { routines.value = r.routines }),
    take(() => answered(api.GET('/v1/runs', { params: { query: { limit: 100 } } })), r => { runs.value = r.runs }),
    take(() => answered(api.GET('/v1/wire/commands')), c => { commands.value = c.commands }),
  ])
}

const each = 6
const found = computed<Found[]>(() => {
  const wanted = words.value.toLowerCase().split(/\s+/).filter(Boolean)
  if (!wanted.length) return []
  const fits = (text: string) => wanted.every(w => text.toLowerCase().includes(w))
  const some = <T>(all: T[], text: (t: T) => string, as: (t: T) => Found) => all.filter(t => fits(text(t))).slice(0, each).map(as)
  return [
    ...some(files.value, f => `${f.name} ${f.tags.join(' ')}`, f => ({ kind: 'File', title: f.name, about: f.tags.join(', '), to: `/shelf/${encodeURIComponent(f.name)}` })),
    ...some(routines.value, r => `${r.name} ${r.about}`, r => ({ kind: 'Routine', title: r.name, about: r.about, to: `/motion/routines?name=${encodeURIComponent(r.name)}` })),
    ...some(settings, s => `${s.title} ${s.about}`, s => ({ kind: 'Setting', ...s })),
    ...some(runs.value, r => `${r.file} ${r.state}`, r => ({ kind: 'Run', title: r.file, about: `${runStates[r.state].word}, ${moment(r.created)}`, to: `/heat?from=${Date.parse(r.created) / 1000 - 60}&to=${(r.ended ? Date.parse(r.ended) : Date.now()) / 1000 + 60}` })),
    ...some(commands.value, c => `${c.command} ${c.does}`, c => ({ kind: 'G-code', title: c.command, about: c.does, to: `/wire?line=${encodeURIComponent(c.example)}` })),
  ]
})
watch(found, () => { at.value = 0 })

watch(open, now => {
  if (!now) return
  words.value = ''
  void load()
  void nextTick(() => field.value?.focus())
}, { immediate: true })
function go(f?: Found) {
  if (!f) return
  open.value = false
  void router.push(f.to)
}
function step(by: number) { at.value = (at.value + by + found.value.length) % Math.max(found.value.length, 1) }
</script>

<template>
  <v-dialog v-model="open" max-width="560" :aria-labelledby="id" scrollable>
    <v-card>
      <h2 :id="id" class="text-title-large px-5 pt-5">Find</h2>
      <v-card-text class="px-5">
        <v-text-field ref="field" v-model="words" label="Files, routines, settings, runs, G-code" :prepend-inner-icon="mdiMagnify" autocomplete="off" hide-details data-find-words @keydown.down.prevent="step(1)" @keydown.up.prevent="step(-1)" @keydown.enter.prevent="go(found[at])" />
        <ul class="found mt-3" data-found>
          <li v-for="(f, i) in found" :key="`${f.kind} ${f.to} ${f.title}`"><button type="button" :class="{ at: i === at }" @click="go(f)"><span class="kind text-body-small">{{ f.kind }}</span><strong class="break">{{ f.title }}</strong><span class="text-body-small text-medium-emphasis break">{{ f.about }}</span></button></li>
        </ul>
        <p v-if="words.trim() && !found.length" class="mb-0" role="status">Nothing of that is found{{ host.connected ? '' : '; the host is not reached' }}.</p>
      </v-card-text>
      <v-card-actions class="px-4 pb-4"><v-btn variant="text" @click="mapped = true">Keys</v-btn><v-spacer /><v-btn variant="text" @click="open = false">Close</v-btn></v-card-actions>
    </v-card>
  </v-dialog>
  <v-dialog v-model="mapped" max-width="420" aria-label="Keys">
    <v-card data-keys>
      <h2 class="text-title-large px-5 pt-5">Keys</h2>
      <v-card-text class="px-5"><dl class="keys"><template v-for="k in keys" :key="k.key"><dt><kbd>{{ k.key }}</kbd></dt><dd>{{ k.title }}</dd></template><dt><kbd>arrows</kbd></dt><dd>In Motion, once they are armed: move; Escape ends it</dd><dt><kbd>↑ ↓</kbd></dt><dd>In Wire: what was said before</dd></dl></v-card-text>
      <v-card-actions class="px-4 pb-4"><v-spacer /><v-btn variant="text" @click="mapped = false">Close</v-btn></v-card-actions>
    </v-card>
  </v-dialog>
</template>

<style scoped>
.found { list-style: none; padding: 0; margin: 0; }
.found button { appearance: none; background: none; border: 0; padding: 6px 8px; width: 100%; min-height: 44px; text-align: left; color: inherit; font: inherit; cursor: pointer; display: grid; grid-template-columns: 72px 1fr; column-gap: 8px; border-radius: 8px; }
.found .at, .found button:hover { background: rgba(var(--v-theme-primary), 0.12); }
.kind { grid-row: span 2; align-self: center; }
.keys { display: grid; grid-template-columns: auto 1fr; gap: 8px 16px; margin: 0; }
.keys dd { margin: 0; }
kbd { font: inherit; font-weight: 600; border: 1px solid rgba(var(--v-border-color), 0.4); border-radius: 4px; padding: 1px 7px; }
</style>
