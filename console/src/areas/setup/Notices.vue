<script setup lang="ts">
import { mdiBellRing, mdiVolumeHigh } from '@mdi/js'
import { onMounted, ref } from 'vue'

import { useCalls } from '../../live/calls'
import { useHost } from '../../live/host'
import { useNotices } from '../../live/notices'
import { play } from '../../live/sound'
import Panel from '../../ui/Panel.vue'
import { date, moment } from '../../words/time'

/** How a person is told, and what was told last. */
const host = useHost()
const calls = useCalls()
const notices = useNotices()
const name = ref(/Android|iPhone|iPad/.exec(navigator.userAgent) ? 'my phone' : 'my desk')
onMounted(() => host.attempt(calls.load))
const sounds = [{ value: 'none', title: 'No sound' }, { value: 'urgent', title: 'Sound if I am needed' }, { value: 'all', title: 'Sound for everything' }]
</script>

<template>
  <Panel title="Notices" data-notices>
    <div class="stack">
      <div class="row">
        <v-select v-model="notices.sound" label="While this page is open" :items="sounds" hide-details />
        <v-btn variant="text" :prepend-icon="mdiVolumeHigh" @click="play('done')">Hear it</v-btn>
      </div>
      <template v-if="calls.why"><p class="mb-0">This browser cannot be called while the console is closed. {{ calls.why }}</p></template>
      <template v-else-if="!calls.called">
        <p class="mb-0">This browser can be called when a run is done, held or broken, also while the console is closed. What is told goes sealed through its maker's push service, which cannot read it.</p>
        <div class="row">
          <v-text-field v-model="name" label="What is this device called?" maxlength="60" hide-details />
          <v-btn variant="flat" color="primary" :prepend-icon="mdiBellRing" :disabled="!name.trim()" data-call @click="calls.call(name.trim())">Call this browser</v-btn>
        </div>
      </template>
      <ul v-if="calls.browsers.length" class="list">
        <li v-for="b in calls.browsers" :key="b.id" class="row" data-called>
          <div class="grow break"><strong>{{ b.name }}</strong>{{ b.id === calls.mine ? ', this browser' : '' }}<div class="text-body-small">{{ b.by }}, since {{ date(b.since) }}, by {{ b.service }}{{ b.waiting ? `; ${b.waiting} not delivered yet` : '' }}</div><div v-if="b.trouble" class="text-body-small text-error">Not reached last: {{ b.trouble }}</div></div>
          <v-btn variant="text" @click="calls.attempt(b.id)">Try it</v-btn>
          <v-btn variant="text" @click="calls.leave(b.id)">Call no more</v-btn>
        </li>
      </ul>
      <details v-if="notices.newest.length">
        <summary>What was told last</summary>
        <ul class="list mt-2">
          <li v-for="n in notices.newest" :key="n.id" class="break"><strong>{{ n.title }}</strong> {{ n.text }} <span class="text-body-small figures">{{ moment(n.at) }}</span></li>
        </ul>
      </details>
    </div>
  </Panel>
</template>

<style scoped>
.list { list-style: none; padding: 0; margin: 0; display: grid; gap: 10px; }
.grow { flex: 1 1 200px; min-width: 0; }
.row > .v-input { flex: 1 1 250px; }
</style>
