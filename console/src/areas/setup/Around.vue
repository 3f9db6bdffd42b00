<script setup lang="ts">
import { onMounted, ref } from 'vue'

import { answered, api, type Schemas } from '../../api/client'
import { useHost } from '../../live/host'
import Panel from '../../ui/Panel.vue'
import Around from '../routines/Around.vue'

/** The routines that go around every run. */
const host = useHost()
const kept = ref<Schemas['Around']>()
const draft = ref<Schemas['Around']>({ before: [], after: [] })
const take = (now: Schemas['Around']) => { kept.value = now; draft.value = now }
onMounted(() => host.attempt(async () => take(await answered(api.GET('/v1/printer/around')))))
const save = () => host.attempt(async () => take(await answered(api.PUT('/v1/printer/around', { body: draft.value }))))
</script>

<template>
  <Panel title="Around every run" data-around>
    <div v-if="kept" class="stack">
      <p class="mb-0">Performed unless a run is started otherwise. If one before it is not done, nothing of the file is said.</p>
      <Around v-model="draft" />
      <div v-if="draft !== kept" class="row">
        <v-btn variant="flat" color="primary" @click="save">Save</v-btn>
        <v-btn variant="text" @click="draft = kept">Leave it as it was</v-btn>
      </div>
    </div>
  </Panel>
</template>
