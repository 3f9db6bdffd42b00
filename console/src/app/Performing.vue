<script setup lang="ts">
import { mdiPlaylistCheck } from '@mdi/js'
import { computed } from 'vue'

import { useHost } from '../live/host'
import { useRoutines } from '../live/routines'
import Notice from '../ui/Notice.vue'
import { performances } from '../words/states'
import { soon } from '../words/time'

/** The routine that is being performed, and what it asks: on every page, until it is over. */
const host = useHost()
const routines = useRoutines()
const p = computed(() => host.routine)
</script>

<template>
  <Notice v-if="p && routines.going" :color="p.question ? 'warning' : 'info'" :icon="mdiPlaylistCheck" class="mb-4" data-performing :data-state="p.state">
    <template v-if="p.question">
      <strong class="break" data-question>{{ p.question.text }}</strong>
      <div class="row mt-2">
        <v-btn v-for="a in p.question.answers" :key="a" variant="flat" color="primary" size="large" :data-answer="a" @click="routines.answer(p.question!.number, a)">{{ a }}</v-btn>
      </div>
      <div class="text-body-small mt-2">{{ p.routine }}, until {{ p.until ? soon(p.until) : '' }}; then {{ p.question.otherwise ? `“${p.question.otherwise}” is taken for the answer` : 'it is stopped' }}.</div>
    </template>
    <template v-else>
      <strong>{{ p.routine }}</strong>: {{ performances[p.state].word }}<span v-if="p.until && p.state === 'waiting'">, until {{ soon(p.until) }} at most</span>
      <div class="text-body-small break">{{ p.said }}</div>
    </template>
    <template #beside><v-btn v-if="p.state !== 'leaving'" variant="outlined" data-stop-routine @click="routines.stop()">Stop</v-btn></template>
  </Notice>
</template>
