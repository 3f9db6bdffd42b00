<script setup lang="ts">
import { mdiAlertCircle, mdiLogout } from '@mdi/js'
import { onMounted, ref, useTemplateRef } from 'vue'

import { at } from '../../api/base'
import { answered, api, type Schemas } from '../../api/client'
import { useHost } from '../../live/host'
import { useMe } from '../../live/me'
import Notice from '../../ui/Notice.vue'
import Page from '../../ui/Page.vue'
import Panel from '../../ui/Panel.vue'
import { roles, scopesInWords } from '../../words/people'
import Around from './Around.vue'
import Connect from './Connect.vue'
import Notices from './Notices.vue'
import Passkeys from './Passkeys.vue'
import People from './People.vue'
import Printer from './Printer.vue'
import Seal from './Seal.vue'
import Tokens from './Tokens.vue'

const host = useHost()
const me = useMe()
const addresses = ref<Schemas['Addresses']>()
const tokens = useTemplateRef<{ load: () => void }>('tokens')
onMounted(() => host.attempt(async () => { addresses.value = await answered(api.GET('/v1/addresses')) }))
</script>

<template>
  <Page title="Setup" :loading="!me.me">
    <div class="columns">
      <div class="stack">
        <Printer v-if="me.keeps" />
        <Around v-if="me.keeps" />
        <Connect v-if="me.keeps" :addresses="addresses" @made="tokens?.load()" />
        <Panel title="On a phone">
          <template v-if="addresses?.urls.length">
            <p class="mb-2">Point its camera here, on the same network:</p>
            <img class="code" :src="at(`/v1/addresses/code?url=${encodeURIComponent(addresses.urls[0]!)}`)" :alt="`A code with the address ${addresses.urls[0]}`" width="200" height="200">
            <p class="mb-0 mt-2 figures break">{{ addresses.urls.join(' · ') }}</p>
          </template>
          <p v-else class="mb-0">Other devices do not reach this host: it listens on its own computer alone. Start it with <code>--listen 0.0.0.0:8437</code>.</p>
        </Panel>
        <Panel v-if="addresses?.watched" title="Watched folder">
          <p class="break mb-1"><code>{{ addresses.watched.path }}</code></p>
          <Notice v-if="!addresses.watched.there" color="error" :icon="mdiAlertCircle">It cannot be read: {{ addresses.watched.why }}</Notice>
          <p class="mb-0">{{ addresses.watched.taken }} taken since the host began. {{ addresses.watched.start ? 'What is put into its folders print and queue is started, or waits in turn.' : 'What is put there is stored.' }}</p>
          <p v-if="addresses.watched.last" class="mb-0 mt-2 break">{{ addresses.watched.last }}</p>
        </Panel>
      </div>
      <div class="stack">
        <Panel title="You">
          <template #beside><v-btn variant="text" :prepend-icon="mdiLogout" @click="me.signOut">Sign out</v-btn></template>
          <p class="mb-0"><strong class="break">{{ me.me?.role ? me.me.name : 'This browser' }}</strong>{{ me.me?.role ? `, ${roles.find(r => r.value === me.me?.role)?.title.toLowerCase()}` : '' }}: you may {{ scopesInWords(me.me?.scopes ?? []) }}.</p>
          <p v-if="me.me?.fresh" class="mb-0 mt-2">Nobody has an account here. <a :href="at('/first-start')">Make yours</a>.</p>
          <Passkeys v-if="me.me?.account" />
        </Panel>
        <Notices />
        <People v-if="me.keeps" />
        <Tokens v-if="me.keeps" ref="tokens" />
        <Seal v-if="addresses?.seal" :seal="addresses.seal" />
      </div>
    </div>
  </Page>
</template>

<style scoped>
.code { display: block; border-radius: 12px; }
</style>
