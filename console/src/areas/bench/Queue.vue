<script setup lang="ts">
import { mdiArrowDown, mdiArrowUp, mdiBroom, mdiClockOutline, mdiClose, mdiDotsVertical, mdiPlay } from '@mdi/js'
import { computed, defineAsyncComponent, onMounted, ref, watch } from 'vue'

import { answered, api, type Schemas } from '../../api/client'
import { useHost } from '../../live/host'
import { useIntervalFn } from '../../live/interval'
import { useMe } from '../../live/me'
import Panel from '../../ui/Panel.vue'
import { sentence } from '../../words/numbers'
import { soon, span } from '../../words/time'

/** What waits to be printed, with what is in its way. A person lets it begin, or has said when it begins by itself. */
const Wish = defineAsyncComponent(() => import('./Wish.vue')) // when one is to be changed
const host = useHost()
const me = useMe()
const entries = ref<Schemas['QueueEntry'][]>([])
const wanted = ref(false)
const changing = ref<Schemas['QueueEntry']>()
const first = computed(() => entries.value[0])
const clear = computed(() => host.bed?.state === 'clear')

const load = async () => {
  const { data } = await api.GET('/v1/queue').catch(() => ({ data: undefined }))
  if (data) entries.value = data.entries
}
onMounted(load)
watch(() => [host.changes.queue, host.changes.slots, host.bed?.since, host.run?.state, host.link?.state, host.alarms.length], load)
useIntervalFn(() => { if (!document.hidden && entries.value.length) void load() }, 20000)

const act = (call: () => Promise<unknown>) => host.attempt(call).finally(load)
const next = (id: string) => act(() => answered(api.POST('/v1/queue/next', { body: { id, clear: !clear.value, bed_seen: clear.value ? undefined : host.bed?.since } })))
const remove = (id: string) => act(() => answered(api.DELETE('/v1/queue/{id}', { params: { path: { id } } })))
const change = (id: string, body: Schemas['ChangeEntry']) => act(() => answered(api.PATCH('/v1/queue/{id}', { params: { path: { id } }, body })))
const up = (i: number) => change(entries.value[i]!.id, { before: entries.value[i - 1]!.id })
const down = (i: number) => change(entries.value[i]!.id, { before: entries.value[i + 2]?.id ?? '' })

function open(e: Schemas['QueueEntry']) {
  wanted.value = true
  changing.value = e
}

/** What is in the first one's way besides the bed, which a person clears by the same touch. */
const other = computed(() => first.value?.checks?.find(c => c.level === 'block' && c.kind !== 'bed'))
/** Of the bed it is told once, at the first. */
const way = (e: Schemas['QueueEntry'], i: number) => i > 0 && !e.checks?.some(c => c.level === 'block' && c.kind !== 'bed') && !e.missed ? '' : e.why
const how = (e: Schemas['QueueEntry']) => [
  e.copies > 1 && `${e.copies} times`,
  e.after && !e.missed && `at ${soon(e.after)}`,
  e.soak_seconds !== undefined && (e.soak_seconds > 0 ? `soaks ${span(e.soak_seconds)}` : 'soaks'),
  `from ${e.sender}, ${soon(e.asked)}`,
].filter(Boolean).join(' · ')
</script>

<template>
  <Panel v-if="first" title="Waiting in turn" data-queue>
    <template #beside>
      <v-btn
        v-if="me.may('start') && (clear || me.may('operate'))" variant="tonal" color="primary" :prepend-icon="clear ? mdiPlay : mdiBroom" :disabled="!!other"
        :title="other ? sentence(other.title) : `Start ${first.file}`" data-next @click="next(first.id)"
      >
        {{ clear ? 'Print the next' : 'Bed cleared: print the next' }}
      </v-btn>
    </template>
    <ol class="rows">
      <li v-for="(e, i) in entries" :key="e.id" :data-entry="e.file">
        <div class="words">
          <router-link class="break" :to="`/shelf/${encodeURIComponent(e.file)}`">{{ e.file }}</router-link>
          <div class="small">{{ how(e) }}</div>
          <div v-if="way(e, i)" class="small way" data-why><v-icon :icon="mdiClockOutline" size="16" aria-hidden="true" /> {{ sentence(way(e, i)!) }}</div>
          <div v-else-if="e.cause" class="small">It was to begin at once: {{ e.cause }}</div>
        </div>
        <template v-if="me.may('start')">
          <v-btn v-if="i > 0" variant="text" size="small" :icon="mdiArrowUp" :aria-label="`${e.file} before ${entries[i - 1]!.file}`" @click="up(i)" />
          <v-btn v-if="i < entries.length - 1" variant="text" size="small" :icon="mdiArrowDown" :aria-label="`${e.file} after ${entries[i + 1]!.file}`" @click="down(i)" />
          <v-btn variant="text" size="small" :icon="mdiDotsVertical" :aria-label="`How ${e.file} is to be printed`" @click="open(e)" />
          <v-btn variant="text" size="small" :icon="mdiClose" :aria-label="`Take ${e.file} out of the queue`" @click="remove(e.id)" />
        </template>
      </li>
    </ol>
    <Wish v-if="wanted" v-model="changing" @change="change" />
  </Panel>
</template>

<style scoped>
.rows { margin: 0; padding-left: 0; list-style: none; display: grid; gap: 8px; max-height: 60vh; overflow: auto; }
.rows li { display: flex; flex-wrap: wrap; justify-content: flex-end; align-items: center; }
.words { flex: 1 1 200px; min-width: 0; }
.small { font-size: 0.84rem; color: rgba(var(--v-theme-on-surface), 0.8); }
@media (max-width: 599px) { .words { flex-basis: 100%; } }
.way { color: rgb(var(--v-theme-error)); }
</style>
