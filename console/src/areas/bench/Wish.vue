<script setup lang="ts">
import { computed, ref, useId, watch } from 'vue'

import { answered, api, type Schemas } from '../../api/client'
import { useHost } from '../../live/host'
import { useMe } from '../../live/me'
import NumberField from '../../ui/NumberField.vue'
import Around from '../routines/Around.vue'

/** How an entry of the queue is to be printed: how often, when, and whether the bed soaks before. */
const entry = defineModel<Schemas['QueueEntry']>()
const emit = defineEmits<{ change: [id: string, body: Schemas['ChangeEntry']] }>()
const id = useId()
const copies = ref<number | undefined>(1)
const timed = ref(false)
const at = ref('')
const soaks = ref(false)
const minutes = ref<number>()
const host = useHost()
const me = useMe()
const own = ref(false) // routines of its own around it
const around = ref<Schemas['Around']>({ before: [], after: [] })

/** Routines of its own begin with those of every run. */
const begin = () => host.attempt(async () => { around.value = await answered(api.GET('/v1/printer/around')) })

/** A moment as a field of day and time takes it. */
const field = (d: Date) => new Date(d.getTime() - d.getTimezoneOffset() * 60000).toISOString().slice(0, 16)

watch(entry, e => {
  if (!e) return
  copies.value = e.copies
  timed.value = !!e.after && !e.missed
  at.value = field(e.after ? new Date(e.after) : new Date(Date.now() + 3600000))
  soaks.value = e.soak_seconds !== undefined
  own.value = !!e.around
  if (e.around) around.value = e.around
  minutes.value = e.soak_seconds ? e.soak_seconds / 60 : undefined
}, { immediate: true })

const good = computed(() => copies.value !== undefined && (!timed.value || at.value !== ''))

function save() {
  const e = entry.value
  if (!e) return
  const after = timed.value ? new Date(at.value).toISOString() : '0001-01-01T00:00:00Z'
  const same = timed.value ? e.after !== undefined && !e.missed && field(new Date(e.after)) === at.value : !e.after
  emit('change', e.id, { copies: copies.value, soak_seconds: soaks.value ? (minutes.value ?? 0) * 60 : -1, ...same ? {} : { after }, ...own.value ? { around: around.value } : {} })
  entry.value = undefined
}
</script>

<template>
  <v-dialog :model-value="entry !== undefined" max-width="420" :aria-labelledby="id" @update:model-value="entry = undefined">
    <v-card v-if="entry" data-wish>
      <h2 :id="id" class="text-title-large break px-5 pt-5">{{ entry.file }}</h2>
      <v-card-text class="px-5">
        <NumberField v-model="copies" label="How often" unit="times" whole :least="1" :most="100" />
        <v-switch v-model="timed" label="Begin by itself" color="primary" hide-details density="compact" />
        <v-text-field v-if="timed" v-model="at" type="datetime-local" label="At" hint="If somebody has said before that the bed is clear" persistent-hint class="mt-2" />
        <v-switch v-model="soaks" label="Let the bed soak before" color="primary" hide-details density="compact" />
        <NumberField v-if="soaks" v-model="minutes" label="For" unit="min" :most="240" placeholder="until it is even" persistent-placeholder class="mt-2" />
        <v-switch v-if="me.may('operate')" v-model="own" :disabled="!!entry.around" label="Other routines around it than usual" color="primary" hide-details density="compact" @update:model-value="begin" />
        <Around v-if="own" v-model="around" class="mt-2" />
      </v-card-text>
      <v-card-actions class="px-4 pb-4">
        <v-spacer />
        <v-btn variant="text" @click="entry = undefined">Leave it</v-btn>
        <v-btn variant="flat" color="primary" :disabled="!good" @click="save">Save</v-btn>
      </v-card-actions>
    </v-card>
  </v-dialog>
</template>
