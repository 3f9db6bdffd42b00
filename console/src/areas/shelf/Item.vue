<script setup lang="ts">
import { mdiDeleteOutline, mdiDotsVertical, mdiDownload, mdiDramaMasks, mdiFire, mdiLayersOutline, mdiPencilOutline, mdiPlay } from '@mdi/js'
import { computed } from 'vue'

import { at } from '../../api/base'
import { answered, api, type Schemas } from '../../api/client'
import { useHost } from '../../live/host'
import { dimensions, size } from '../../words/numbers'
import { runStates } from '../../words/states'
import { soon, span } from '../../words/time'
import Paced from '../../ui/Paced.vue'
import Picture from './Picture.vue'

/** A file on the shelf: its picture, what it is, and what one does with it. */
const { file, choosing } = defineProps<{ file: Schemas['File'], choosing: boolean }>()
const chosen = defineModel<boolean>({ required: true })
defineEmits<{ look: [], layers: [], edit: [], remove: [] }>()

const host = useHost()
const warm = () => host.attempt(() => answered(api.POST('/v1/heat/warm-up', { body: { file: file.name } })))
const done = computed(() => file.survey.state === 'done')
const cost = computed(() => file.cost === undefined ? '' : `${file.cost.toFixed(2)} ${file.currency ?? ''}`.trim())
const past = computed(() => {
  const h = file.history
  if (!h.runs) return 'never run'
  const last = runStates[h.state as Schemas['Run']['state']]?.word ?? h.state
  const often = h.runs === 1 ? 'run once' : `run ${h.runs} times`
  if (h.finished === h.runs) return h.runs === 1 ? 'run once, finished' : `${often}, all finished`
  return h.runs === 1 ? `${often}, ${last}` : `${often}, ${h.finished} finished, the last ${last}`
})
</script>

<template>
  <li class="item" :class="{ chosen }">
    <button type="button" class="face" :data-file="file.name" @click="choosing ? chosen = !chosen : $emit('look')">
      <span class="frame"><Picture :file="file" :size="256" /></span>
      <span class="words">
        <span class="break name">{{ file.name }}</span>
        <span v-if="done" class="figures facts">
          <span class="time">{{ span(file.duration_seconds) }}<Paced :seconds="file.duration_seconds" /></span>
          <span>{{ file.filament_g.toFixed(file.filament_g < 10 ? 1 : 0) }} g<template v-if="cost"> · {{ cost }}</template></span>
          <span v-if="file.part">{{ dimensions(file.part) }}</span>
          <span>{{ file.layers }} layers</span>
        </span>
        <span v-else-if="file.survey.state === 'refused'" class="text-error">cannot be printed</span>
        <span v-else class="waiting">
          <span class="text-medium-emphasis">{{ file.survey.state === 'surveying' ? `looking at it, ${(file.survey.share * 100).toFixed(0)} %` : 'waits to be looked at' }}</span>
          <v-progress-linear :model-value="file.survey.share * 100" :indeterminate="file.survey.state === 'waiting'" color="primary" height="4" rounded :aria-label="`Looking at ${file.name}`" />
        </span>
        <span class="text-body-small text-medium-emphasis">{{ soon(file.stored) }}<template v-if="file.sender"> from {{ file.sender }}</template> · {{ size(file.size) }} · {{ past }}</span>
        <span v-if="file.tags.length" class="tags"><span v-for="t in file.tags" :key="t" class="tag">{{ t }}</span></span>
      </span>
    </button>
    <v-checkbox-btn v-if="choosing" v-model="chosen" class="pick" :aria-label="`Choose ${file.name}`" />
    <div v-else class="acts">
      <v-btn :icon="mdiPlay" variant="tonal" color="primary" size="44" :title="`Start ${file.name}`" :aria-label="`Start ${file.name}`" @click="$emit('look')" />
      <v-menu>
        <template #activator="{ props }"><v-btn v-bind="props" :icon="mdiDotsVertical" variant="text" size="44" :title="`More for ${file.name}`" :aria-label="`More for ${file.name}`" /></template>
        <v-list density="comfortable">
          <v-list-item v-if="done && file.extent" :prepend-icon="mdiLayersOutline" title="See its layers" @click="$emit('layers')" />
          <v-list-item v-if="file.survey.state !== 'refused'" :prepend-icon="mdiDramaMasks" title="Rehearse" :to="`/shelf/${encodeURIComponent(file.name)}/rehearsal`" />
          <v-list-item v-if="done" :prepend-icon="mdiFire" title="Warm up for it" :disabled="!host.live || host.going" @click="warm" />
          <v-list-item :prepend-icon="mdiPencilOutline" title="Name and tags" @click="$emit('edit')" />
          <v-list-item :prepend-icon="mdiDownload" title="Download" :href="at(`/v1/shelf/${encodeURIComponent(file.name)}/content`)" />
          <v-list-item :prepend-icon="mdiDeleteOutline" title="Delete" base-color="error" @click="$emit('remove')" />
        </v-list>
      </v-menu>
    </div>
  </li>
</template>

<style scoped>
.item { position: relative; display: flex; flex-direction: column; border: 1px solid rgba(var(--v-border-color), var(--v-border-opacity)); border-radius: 12px; background: rgb(var(--v-theme-surface)); }
.item.chosen { outline: 2px solid rgb(var(--v-theme-primary)); }
.face { flex: 1; display: flex; flex-direction: column; text-align: left; border: 0; background: none; font: inherit; color: inherit; cursor: pointer; border-radius: 12px; padding: 0; }
.face:hover .frame { background: rgba(var(--v-theme-primary), 0.08); }
.frame { display: block; position: relative; aspect-ratio: 4 / 3; border-radius: 12px 12px 0 0; }
.frame :deep(.picture) { position: absolute; inset: 10px; width: calc(100% - 20px); height: calc(100% - 20px); }
.words { display: flex; flex-direction: column; gap: 4px; padding: 4px 14px 12px; min-width: 0; }
.name { font-weight: 500; }
.facts { display: flex; flex-wrap: wrap; gap: 2px 12px; align-items: baseline; }
.time { font-size: 1.25rem; font-weight: 600; }
.tags { display: flex; flex-wrap: wrap; gap: 4px; }
.tag { border: 1px solid currentcolor; border-radius: 999px; padding: 0 8px; font-size: 0.75rem; opacity: 0.8; }
.acts { display: flex; justify-content: space-between; padding: 0 10px 10px; }
.pick { position: absolute; top: 4px; right: 4px; }
@media (width < 600px) {
  .item { flex-direction: row; align-items: stretch; }
  .face { flex-direction: row; align-items: flex-start; min-width: 0; }
  .frame { flex: 0 0 96px; height: 96px; aspect-ratio: auto; }
  .words { padding: 10px 4px 10px 10px; }
  .acts { flex-direction: column; padding: 8px 6px; }
}
</style>
