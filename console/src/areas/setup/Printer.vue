<script setup lang="ts">
import { mdiProgressClock } from '@mdi/js'
import { computed } from 'vue'

import { settable } from '../../api/settable.gen'
import { useHost } from '../../live/host'
import Notice from '../../ui/Notice.vue'
import Panel from '../../ui/Panel.vue'
import { changed, filament, limits, size, tools } from './describe'
import { useDescribed } from './described'
import Name from './Name.vue'
import Numbers from './Numbers.vue'
import { about, usePorts } from './port'

/** The printer as it is described, to be changed. */
const host = useHost()
const { described, draft, away, say, takeUp } = useDescribed()
const ports = usePorts()
const different = computed(() => described.value && Object.keys(changed(draft.value, described.value.printer)).length > 0)
const choices = computed(() => [{ value: '', title: 'the only one there' }, ...(ports.value ?? []).map(p => ({ value: p.path, title: [p.path, about(p)].filter(Boolean).join(' · ') }))])

async function save() {
  if (await say()) await takeUp()
}
</script>

<template>
  <Panel title="The printer" data-printer>
    <template #beside><v-btn variant="text" to="/setup/guide">Step by step</v-btn></template>
    <div v-if="described" class="stack">
      <Name v-model="draft" :described="described" />
      <Numbers v-model="draft" :fields="size" :described="described" />
      <Numbers v-model="draft" :fields="limits" :described="described" />
      <Numbers v-model="draft" :fields="tools" :described="described" />
      <Numbers v-model="draft" :fields="filament" :described="described" />
      <v-text-field v-model="draft.currency" label="Currency" :maxlength="settable.Description.currency.longest" :disabled="described.by.currency === 'file'" />
      <v-select v-model="draft.device" label="Its port" :items="choices" :disabled="described.by.device === 'file'" :hint="described.by.device === 'file' ? 'decided in diathermon.toml or on the command line' : ''" persistent-hint />
      <p class="mb-0 text-body-small">What <code>diathermon.toml</code> or the command line names they decide; everything else is decided here.</p>
      <Notice v-if="away" color="info" :icon="mdiProgressClock">The host begins anew with that. It is back in some seconds.</Notice>
      <Notice v-else-if="described.waits && !different" color="info" :icon="mdiProgressClock">
        Kept. It holds from the next start of the host on, or as soon as nothing is under way or heated.
        <template #beside><v-btn variant="outlined" @click="takeUp">Take it up now</v-btn></template>
      </Notice>
      <div v-if="different" class="row">
        <v-btn variant="flat" color="primary" data-save @click="save">{{ host.going ? 'Keep it' : 'Save' }}</v-btn>
        <v-btn variant="text" @click="draft = { ...described.printer }">Leave it as it was</v-btn>
      </div>
    </div>
  </Panel>
</template>
