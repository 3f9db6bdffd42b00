<script setup lang="ts">
import { mdiLayersOutline, mdiUndo } from '@mdi/js'
import { computed, ref, watch } from 'vue'

import { answered, api, type Schemas } from '../../api/client'
import { useHost } from '../../live/host'
import NumberField from '../../ui/NumberField.vue'
import Objects from './Objects.vue'
import { byHeater, numbers } from './trim'
import Trim from './Trim.vue'

/** Changes how the run that goes on differs from its file: at once, for everybody to see, and back by one touch. */
const host = useHost()
const run = computed(() => host.run!)
const wanted = ref<Schemas['Trim']>() // pressed here, and not said yet
const before = ref<Schemas['ChangeTrim'][]>([]) // what takes each change back, the last behind
const shown = computed({ get: () => wanted.value ?? run.value.trim ?? {}, set: press })
watch(() => run.value.id, () => { before.value = [] })

/** What of a trim is other than in another, so that who changes something else at the same time is not overruled. */
type Trimmed = Schemas['Trim']
function change(to: Trimmed, from: Trimmed): Schemas['ChangeTrim'] {
  const out: Schemas['ChangeTrim'] = {}
  for (const [key, { usual: file }] of numbers) {
    if ((to[key] || file) !== (from[key] || file)) out[key] = to[key] || file
  }
  const keys = Object.keys({ ...to.skip, ...from.skip }).filter(o => !to.skip?.[o] !== !from.skip?.[o])
  if (keys.length) out.skip = Object.fromEntries(keys.map(o => [o, !!to.skip?.[o]]))
  for (const key of byHeater) {
    const names = new Set([...Object.keys(to[key] ?? {}), ...Object.keys(from[key] ?? {})])
    const other = [...names].filter(h => (to[key]?.[h] ?? 0) !== (from[key]?.[h] ?? 0))
    if (other.length) out[key] = Object.fromEntries(other.map(h => [h, to[key]?.[h] ?? 0]))
  }
  return out
}

/** Presses in a row are one change. */
let timer = 0
let begun: Trimmed = {}
function press(t: Trimmed) {
  if (!wanted.value) begun = run.value.trim ?? {}
  wanted.value = t
  window.clearTimeout(timer)
  timer = window.setTimeout(async () => {
    if (await say(change(t, begun))) before.value.push(change(begun, t))
    if (wanted.value === t) wanted.value = undefined
  }, 300)
}

const say = (body: Schemas['ChangeTrim']) => host.attempt(() => answered(api.PATCH('/v1/runs/{id}/trim', { params: { path: { id: run.value.id } }, body })))

/** An object is left out, or printed again: at once, and kept for undoing. */
async function skip(key: string, leaves: boolean) {
  if (await say({ skip: { [key]: leaves } })) before.value.push({ skip: { [key]: !leaves } })
}

/** Where it is to be held, or to end. */
const layer = ref<number>()
const drawn = computed(() => Math.max(run.value.progress?.layer ?? 0, 1))
const layers = computed(() => run.value.progress?.layers ?? 0)
const until = (body: Schemas['SetUntil']) => host.attempt(() => answered(api.PUT('/v1/runs/{id}/until', { params: { path: { id: run.value.id } }, body })))

async function holdBefore() {
  if (layer.value && await until({ layer: layer.value })) layer.value = undefined
}

async function undo() {
  const back = before.value.pop()
  if (back) await say(back)
}
</script>

<template>
  <div class="mt-4" data-adjust>
    <Trim v-model="shown" :origin="run.origin ?? {}" :first="(run.progress?.layer ?? 0) < 2" />
    <p v-if="run.state === 'held'" class="text-body-small text-medium-emphasis mt-2 mb-0">Heat and fan of a held run are changed when it is resumed.</p>
    <div class="d-flex flex-wrap ga-2 mt-3">
      <v-btn variant="tonal" :prepend-icon="mdiUndo" :disabled="!before.length" data-undo @click="undo">Undo</v-btn>
      <v-btn variant="text" @click="press({ skip: run.trim?.skip })">All as sliced</v-btn>
    </div>
    <Objects :file="run.file" :skipped="Object.keys(run.trim?.skip ?? {})" @skip="skip" />
    <div v-if="layers > 1" class="d-flex flex-wrap align-center ga-2 mt-4">
      <NumberField v-model="layer" label="Hold before layer" whole :least="2" :most="layers" :unit="`of ${layers}`" style="flex: 0 1 220px" @keydown.enter="holdBefore" />
      <v-btn variant="tonal" :disabled="!layer" data-hold-before @click="holdBefore">Set</v-btn>
      <v-btn v-if="drawn < layers" variant="text" :prepend-icon="mdiLayersOutline" data-end-after @click="until({ end: true })">End after layer {{ drawn }}</v-btn>
    </div>
  </div>
</template>
