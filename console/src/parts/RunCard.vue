<script setup lang="ts">
import { mdiPause, mdiPlay, mdiStop } from '@mdi/js'
import { useIntervalFn } from '../live/interval'
import { computed, ref } from 'vue'

import { useHost } from '../live/host'
import { span } from '../live/words'

const host = useHost()
const asking = ref(false)
const now = ref(Date.now())
useIntervalFn(() => { now.value = Date.now() }, 1000)

const run = computed(() => host.run)
const share = computed(() => (run.value?.progress?.share ?? 0) * 100)
const elapsed = computed(() => {
  if (!run.value?.started) return 0
  return ((run.value.ended ? Date.parse(run.value.ended) : now.value) - Date.parse(run.value.started)) / 1000
})
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
        <p v-if="run.reason" class="mb-3 break">{{ run.reason }}</p>
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
            <div class="text-body-small text-medium-emphasis">Moves left</div>
            <div class="text-title-medium">{{ span(run.progress.left_seconds) }}</div>
          </div>
        </div>
      </v-card-text>
      <v-card-actions v-if="host.going" class="px-4 pb-4 ga-2">
        <v-btn v-if="run.state === 'held'" variant="flat" color="primary" :prepend-icon="mdiPlay" @click="host.control('resume')">Resume</v-btn>
        <v-btn v-else variant="tonal" color="primary" :prepend-icon="mdiPause" :disabled="run.state === 'ending' || run.state === 'waiting'" @click="host.control('hold')">Hold</v-btn>
        <v-btn variant="outlined" :prepend-icon="mdiStop" :disabled="run.state === 'ending'" @click="asking = true">Stop</v-btn>
      </v-card-actions>
    </template>
    <v-dialog v-model="asking" max-width="420">
      <v-card title="Stop this run?">
        <v-card-text class="break">{{ run?.file }} cannot be carried on afterwards. Heaters and fan are turned off.</v-card-text>
        <v-card-actions>
          <v-btn variant="text" @click="asking = false">Keep printing</v-btn>
          <v-btn variant="flat" color="error" @click="stop">Stop it</v-btn>
        </v-card-actions>
      </v-card>
    </v-dialog>
  </v-card>
</template>
