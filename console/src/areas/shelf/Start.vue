<script setup lang="ts">
import { mdiDownload, mdiDramaMasks, mdiLayersOutline, mdiPlay, mdiPlaylistPlay, mdiTrayPlus, mdiTune } from '@mdi/js'
import { computed, defineAsyncComponent, ref, useId, watch } from 'vue'

import { at } from '../../api/base'
import { api, type Schemas } from '../../api/client'
import { useHost } from '../../live/host'
import { useMe } from '../../live/me'
import Figure from '../../ui/Figure.vue'
import Paced from '../../ui/Paced.vue'
import { heaterName } from '../../words/heaters'
import { dimensions } from '../../words/numbers'
import { span } from '../../words/time'
import Checks from './Checks.vue'
import Picture from './Picture.vue'

/** What a file is, what stands between it and its start, and the start. */
const file = defineModel<Schemas['File']>()
const emit = defineEmits<{ start: [order: Schemas['StartRun']], wait: [name: string], look: [name: string, slots?: number[]] }>()
const host = useHost()
const id = useId()
const Trim = defineAsyncComponent(() => import('../bench/Trim.vue'))
const me = useMe()
const trim = ref<Schemas['Trim']>({})
const trimming = ref(false)
const Around = defineAsyncComponent(() => import('../routines/Around.vue'))
const usual = ref<Schemas['Around']>({ before: [], after: [] }) // around every run
const around = ref(usual.value)
const Slots = defineAsyncComponent(() => import('./Slots.vue'))
const slots = ref<Schemas['Slot'][]>([])
const mapping = ref<number[]>([])
const look = () => { if (file.value) emit('look', file.value.name, mapping.value.length ? mapping.value : undefined) }
watch(mapping, (now, before) => { if (now.length || before.length) look() })
const rounding = ref(false)
const whys = ref<Record<string, string>>({})
watch(() => file.value?.name, () => {
  whys.value = {}
  trim.value = {}
  trimming.value = rounding.value = false
  mapping.value = file.value?.slots ?? []
  api.GET('/v1/slots').then(({ data }) => { slots.value = data?.slots ?? [] }, () => undefined)
  if (!file.value || !me.may('operate')) return
  api.GET('/v1/printer/around').then(({ data }) => {
    if (!data) return
    around.value = usual.value = data
    rounding.value = data.before.length + data.after.length > 0
  }, () => undefined)
})
watch(() => [host.bed?.since, host.changes.slots], () => { look() }) // somebody else has said so
const blocked = computed(() => file.value?.checks?.some(c => c.level === 'block' && !whys.value[c.kind]?.trim()) ?? false)
const overrule = computed(() => (file.value?.checks ?? []).filter(c => c.overrule && whys.value[c.kind]?.trim()).map(c => ({ kind: c.kind, why: whys.value[c.kind]!.trim() })))
/** What is to be run is what was looked at: the bytes, and the checks that were read. */
const start = (f: Schemas['File']) => emit('start', { file: f.name, digest: f.digest, seen: [...new Set((f.checks ?? []).map(c => c.kind))], overrule: overrule.value, trim: trimming.value ? trim.value : undefined, slots: mapping.value.length ? mapping.value : undefined, ...around.value === usual.value ? {} : around.value })
const done = computed(() => file.value?.survey.state === 'done')
const size = computed(() => file.value?.part ? dimensions(file.value.part) : 'lays nothing')
const cost = computed(() => file.value?.cost === undefined ? '' : `, ${file.value.cost.toFixed(2)} ${file.value.currency ?? ''}`.trimEnd())
const hints = computed(() => {
  const h = file.value?.hints
  const materials = [...new Set(h?.materials ?? [h?.material])].filter(Boolean).join(' and ')
  return [materials, h?.printer && `for ${h.printer}`, h?.nozzle && `nozzle ${h.nozzle} mm`, h?.filament && `filament ${h.filament} mm`].filter(Boolean).join(', ')
})
const warmth = computed(() => Object.entries(file.value?.setpoints ?? {}).map(([h, v]) => `${heaterName(h, host.printer?.tools)} ${v} °C`).join(', ') || 'nothing')
</script>

<template>
  <v-dialog :model-value="file !== undefined" :max-width="trimming ? 720 : 560" scrollable :aria-labelledby="id" @update:model-value="file = undefined">
    <v-card v-if="file" data-start>
      <h2 :id="id" class="text-title-large break px-5 pt-5">{{ file.name }}</h2>
      <v-card-text class="px-5" tabindex="0">
        <div v-if="file.extent" class="frame">
          <Picture :file="file" :size="800" />
          <v-btn class="layers" variant="tonal" size="small" :prepend-icon="mdiLayersOutline" :to="`/shelf/${encodeURIComponent(file.name)}`">Layers</v-btn>
        </div>
        <dl v-if="done" class="facts mb-3">
          <Figure name="Moves take">{{ span(file.duration_seconds) }}<Paced :seconds="file.duration_seconds" /></Figure>
          <Figure v-if="file.warming_seconds" name="Warming, before">{{ span(file.warming_seconds) }}</Figure>
          <Figure name="Layers">{{ file.layers }} of {{ file.layer_height.toFixed(2) }} mm</Figure>
          <Figure name="Filament">{{ file.filament_g.toFixed(1) }} g, {{ (file.filament_mm / 1000).toFixed(2) }} m{{ cost }}</Figure>
          <Figure name="Size">{{ size }}</Figure>
        </dl>
        <ul v-if="done && file.tools.length > 1" class="tools figures mb-3">
          <li v-for="t in file.tools" :key="t.tool">Tool {{ t.tool }}: {{ t.g.toFixed(1) }} g, {{ (t.mm / 1000).toFixed(2) }} m, in use for {{ span(t.seconds) }}</li>
        </ul>
        <p v-if="done" class="mb-2">Warms {{ warmth }}</p>
        <p v-if="hints" class="mb-3 text-medium-emphasis">Its comments say: {{ hints }}</p>
        <v-btn v-if="done && me.may('operate')" variant="text" class="mb-2 ms-n2" :prepend-icon="mdiTune" :aria-expanded="trimming" data-trimming @click="trimming = !trimming">Settings for this run</v-btn>
        <v-btn v-if="done && me.may('operate') && !rounding" variant="text" class="mb-2 ms-n2" :prepend-icon="mdiPlaylistPlay" data-rounding @click="rounding = true">Before and after it</v-btn>
        <Trim v-if="trimming" v-model="trim" class="mb-4" :origin="file.setpoints ?? {}" />
        <Slots v-if="slots.length > 1 && file.tools.length" v-model="mapping" class="mb-4" :file="file" :slots="slots" />
        <Around v-if="rounding" v-model="around" class="mb-4" />
        <Checks v-model="whys" :checks="file.checks" :fine="file.fine" @look="look" />
      </v-card-text>
      <v-card-actions class="flex-wrap px-4 pb-4">
        <v-btn variant="text" :prepend-icon="mdiDownload" :href="at(`/v1/shelf/${encodeURIComponent(file.name)}/content`)">Download</v-btn>
        <v-btn variant="text" :prepend-icon="mdiDramaMasks" :to="`/shelf/${encodeURIComponent(file.name)}/rehearsal`">Rehearse</v-btn>
        <v-spacer />
        <v-btn variant="text" @click="file = undefined">Not now</v-btn>
        <v-btn variant="text" :prepend-icon="mdiTrayPlus" @click="emit('wait', file.name)">In turn</v-btn>
        <v-btn variant="flat" color="primary" :prepend-icon="mdiPlay" :disabled="blocked" data-go @click="start(file)">Start</v-btn>
      </v-card-actions>
    </v-card>
  </v-dialog>
</template>

<style scoped>
.frame { position: relative; height: min(24vh, 200px); margin-bottom: 12px; }
.layers { position: absolute; right: 0; bottom: 0; }
.tools { padding-left: 18px; }
.facts { display: grid; grid-template-columns: repeat(auto-fill, minmax(120px, 1fr)); gap: 8px 16px; }
</style>
