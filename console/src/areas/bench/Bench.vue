<script setup lang="ts">
import { mdiAlertCircle, mdiConnection, mdiLanDisconnect, mdiProgressClock } from '@mdi/js'
import { computed } from 'vue'

import { useHost } from '../../live/host'
import Notice from '../../ui/Notice.vue'
import Page from '../../ui/Page.vue'
import Panel from '../../ui/Panel.vue'
import { sentence } from '../../words/numbers'
import Heater from '../heat/Heater.vue'
import Sets from '../heat/Sets.vue'
import Routines from '../routines/Buttons.vue'
import Connect from './Connect.vue'
import Loaded from './Loaded.vue'
import Messages from './Messages.vue'
import Newest from './Newest.vue'
import Position from './Position.vue'
import Queue from './Queue.vue'
import Recent from './Recent.vue'
import Run from './Run.vue'

const host = useHost()
const waiting = computed(() => host.link?.state === 'opening' || host.link?.state === 'greeting')
/** There is nothing to see but how to connect a printer; a run that waits for it is shown still. */
const bare = computed(() => host.connected && host.link?.state === 'absent')
</script>

<template>
  <Page title="Bench" :loading="!host.printer">
    <Notice v-if="!host.connected" color="error" :icon="mdiLanDisconnect">The host does not answer; trying again. What is shown here is old.</Notice>
    <Notice v-else-if="host.link && !host.live && !bare" :color="waiting ? 'info' : 'error'" :icon="waiting ? mdiProgressClock : mdiAlertCircle" data-link-reason>
      {{ sentence(host.link.reason) }}
      <template #beside><v-btn v-if="!waiting && !host.going" :prepend-icon="mdiConnection" variant="outlined" @click="host.reconnect()">Reconnect</v-btn></template>
    </Notice>
    <div class="columns">
      <div class="stack">
        <Run v-if="!bare || host.run" />
        <Queue />
        <Newest v-if="host.connected && !host.going" />
        <Connect v-if="bare" />
        <Panel v-else title="Last 15 minutes"><Recent /></Panel>
      </div>
      <div class="stack">
        <template v-if="!bare"><Heater v-for="h in host.heaters" :key="h.heater" :heater="h" /></template>
        <Panel v-else title="What works without it">
          <p class="mb-2">Files can be stored on the <router-link to="/shelf">shelf</router-link>, and past temperatures looked at under <router-link to="/heat">heat</router-link>.</p>
          <p class="mb-0 text-medium-emphasis">Of several ports this host takes the one that is chosen under <router-link to="/setup">setup</router-link>.</p>
        </Panel>
        <Loaded v-if="!bare" />
        <Sets v-if="!bare" />
        <Routines place="bench" />
        <Position />
        <Messages />
      </div>
    </div>
  </Page>
</template>
