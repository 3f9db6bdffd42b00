<script setup lang="ts">
import { mdiDownload, mdiPause, mdiPlay, mdiStop } from '@mdi/js'
import { useIntervalFn } from '../live/interval'
import { computed, ref, watch } from 'vue'

import type { Schemas } from '../api/client'
import { useHost } from '../live/host'
import { span } from '../live/words'
import PickUpDialog from './PickUpDialog.vue'

const host = useHost()
const asking = ref(false)
const picking = ref(false)
const now = ref(Date.now())
useIntervalFn(() => { now.value = Date.now() }, 1000)

const run = computed(() => host.run)
const interrupted = computed(() => run.value !== undefined && !run.value.over && !run.value.going)
const may = (act: NonNullable<Schemas['Run']['may']>[number]) => run.value?.may?.includes(act) ?? false
const share = computed(() => (run.value?.progress?.share ?? 0) * 100)
const told = ref(Date.now()) // when the run was told last, by this browser's clock, which need not agree with the host's
watch(run, () => { told.value = now.value = Date.now() })
const elapsed = computed(() => !run.value?.started ? 0 : run.value.lasted_seconds + (run.value.ended ? 0 : (now.value - told.value) / 1000))
const colours: Record<string, string> = { finished: 'success', stopped: 'secondary', broken: 'error', interrupted: 'error', held: 'warning' }
const colour = computed(() => colours[run.value?.state ?? ''] ?? 'primary')

async function stop() {
  asking.value = false
  await host.control('stop')
}
</script>

<template>
  <v-card data-run :data-state="run?.state">
    <v-card-text v-if="!run" class="py-6">
      <p class="text-body-large">Nothing is being printed.</p>
      <p class="text-medium-emphasis mb-0">Choose a file on the <router-link to="/shelf">shelf</router-link>.</p>
    </v-card-text>
    <template v-else>
      <v-card-text>
        <div class="d-flex align-start ga-3 mb-3">
          <div class="flex-grow-1 text-title-medium break">{{ run.file }}</div>
          <v-chip :color="colour" variant="tonal" size="small" data-run-state>{{ run.state }}</v-chip>
        </div>
        <p v-if="run.reason" class="mb-3 break" data-run-reason>{{ run.reason }}</p>
        <p v-if="interrupted && !run.needs_plan" class="mb-3 text-medium-emphasis">As soon as the printer is back it is asked whether it has kept its place.</p>
        <v-progress-linear :model-value="share" :indeterminate="run.state === 'warming'" :color="colour" height="10" rounded :aria-label="`${run.state}, ${share.toFixed(0)} percent`" />
        <div v-if="run.progress" class="d-flex flex-wrap ga-6 mt-4 figures">
          <div>
            <div class="text-body-small text-medium-emphasis">Done</div>
            <div class="text-title-medium">{{ run.state === 'warming' ? 'warming' : `${share.toFixed(1)} %` }}</div>
          </div>
          <div>
            <div class="text-body-small text-medium-emphasis">Layer</div>
            <div class="text-title-medium">{{ run.progress.layer }} of {{ run.progress.layers }}</div>
          </div>
          <div>
            <div class="text-body-small text-medium-emphasis">Height</div>
            <div class="text-title-medium">{{ run.progress.z.toFixed(2) }} mm</div>
          </div>
          <div>
            <div class="text-body-small text-medium-emphasis">{{ host.going ? 'Elapsed' : 'Took' }}</div>
            <div class="text-title-medium">{{ span(elapsed) }}</div>
          </div>
          <div v-if="host.going">
            <div class="text-body-small text-medium-emphasis">Left</div>
            <div class="text-title-medium">{{ span(run.progress.left_seconds) }}</div>
          </div>
        </div>
      </v-card-text>
      <v-card-actions v-if="interrupted" class="px-4 pb-4 ga-2 flex-wrap">
        <v-btn variant="flat" color="primary" :prepend-icon="mdiPlay" :disabled="!may('pick-up') || !host.live" @click="picking = true">Pick up…</v-btn>
        <v-btn variant="outlined" :prepend-icon="mdiStop" @click="asking = true">Give up</v-btn>
        <v-btn variant="text" :prepend-icon="mdiDownload" :href="`/v1/runs/${run.id}/recording`">Recording</v-btn>
      </v-card-actions>
      <v-card-actions v-else-if="run.over && run.state !== 'finished'" class="px-4 pb-4">
        <v-btn variant="text" :prepend-icon="mdiDownload" :href="`/v1/runs/${run.id}/recording`">Recording</v-btn>
      </v-card-actions>
      <v-card-actions v-else-if="host.going" class="px-4 pb-4 ga-2">
        <v-btn v-if="may('resume')" variant="flat" color="primary" :prepend-icon="mdiPlay" @click="host.control('resume')">Resume</v-btn>
        <v-btn v-else variant="tonal" color="primary" :prepend-icon="mdiPause" :disabled="!may('hold')" @click="host.control('hold')">Hold</v-btn>
        <v-btn variant="outlined" :prepend-icon="mdiStop" :disabled="!may('stop')" @click="asking = true">Stop</v-btn>
      </v-card-actions>
    </template>
    <v-dialog v-model="asking" max-width="420">
      <v-card :title="interrupted ? 'Give this run up?' : 'Stop this run?'">
        <v-card-text class="break">{{ run?.file }} cannot be carried on afterwards. Heaters and fan are turned off.</v-card-text>
        <v-card-actions>
          <v-btn variant="text" @click="asking = false">{{ interrupted ? 'Keep it' : 'Keep printing' }}</v-btn>
          <v-btn variant="flat" color="error" @click="stop">{{ interrupted ? 'Give it up' : 'Stop it' }}</v-btn>
        </v-card-actions>
      </v-card>
    </v-dialog>
    <PickUpDialog v-model="picking" />
  </v-card>
</template>
