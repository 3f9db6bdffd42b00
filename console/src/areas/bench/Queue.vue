<script setup lang="ts">
import { mdiBroom, mdiClose } from '@mdi/js'
import { computed, onMounted, ref } from 'vue'

import { answered, api, type Schemas } from '../../api/client'
import { useHost } from '../../live/host'
import { useIntervalFn } from '../../live/interval'
import { useMe } from '../../live/me'
import Panel from '../../ui/Panel.vue'
import { moment } from '../../words/time'

/** What waits to be printed. Nothing of it begins by itself: a person says that the bed is clear. */
const host = useHost()
const me = useMe()
const entries = ref<Schemas['QueueEntry'][]>([])
const first = computed(() => entries.value[0])

const load = async () => {
  const { data } = await api.GET('/v1/queue').catch(() => ({ data: undefined }))
  if (data) entries.value = data.entries
}
onMounted(load)
useIntervalFn(() => { if (!document.hidden) void load() }, 4000)

const next = (id: string) => host.attempt(() => answered(api.POST('/v1/queue/next', { body: { id } }))).finally(load)
const remove = (id: string) => host.attempt(() => answered(api.DELETE('/v1/queue/{id}', { params: { path: { id } } }))).finally(load)
</script>

<template>
  <Panel v-if="first" title="Waiting in turn" data-queue>
    <template #beside>
      <v-btn v-if="me.may('start')" variant="tonal" color="primary" :prepend-icon="mdiBroom" :disabled="host.going || !host.live" :title="host.going ? 'A run is going on' : `Start ${first.file}`" @click="next(first.id)">The bed is clear: print the next</v-btn>
    </template>
    <ol class="rows">
      <li v-for="e in entries" :key="e.id">
        <div class="words">
          <router-link class="break" :to="`/shelf/${encodeURIComponent(e.file)}`">{{ e.file }}</router-link>
          <div class="small">from {{ e.sender }}, {{ moment(e.asked) }}</div>
        </div>
        <v-btn v-if="me.may('start')" variant="text" size="small" :icon="mdiClose" :aria-label="`Take ${e.file} out of the queue`" @click="remove(e.id)" />
      </li>
    </ol>
  </Panel>
</template>

<style scoped>
.rows { margin: 0; padding-left: 22px; display: grid; gap: 8px; }
.rows li > * { vertical-align: middle; }
.words { display: inline-block; width: calc(100% - 48px); }
.small { font-size: 0.84rem; opacity: 0.8; }
</style>
