<script setup lang="ts">
import { mdiDeleteOutline, mdiFingerprint } from '@mdi/js'
import { onMounted, ref } from 'vue'

import { answered, api, type Schemas } from '../../api/client'
import { useHost } from '../../live/host'
import { date, moment } from '../../words/time'

/** The passkeys of whoever is signed in: made, seen and removed. */
const host = useHost()
const passkeys = ref<Schemas['Passkey'][]>([])
const name = ref('')
const adding = ref(false)
const able = window.isSecureContext && typeof PublicKeyCredential !== 'undefined' && 'parseCreationOptionsFromJSON' in PublicKeyCredential

const load = () => host.attempt(async () => { passkeys.value = (await answered(api.GET('/v1/me/passkeys'))).passkeys })
onMounted(load)

const make = () => host.attempt(async () => {
  const offer = await answered(api.POST('/v1/me/passkeys/offer'))
  let made: Credential | null
  try {
    made = await navigator.credentials.create({ publicKey: PublicKeyCredential.parseCreationOptionsFromJSON(offer.options as PublicKeyCredentialCreationOptionsJSON) })
  } catch (e) {
    adding.value = false
    if ((e as DOMException).name === 'NotAllowedError') return // the person has thought better of it
    throw { title: 'The browser has made no passkey', detail: (e as DOMException).message }
  }
  await answered(api.POST('/v1/me/passkeys', { body: { ticket: offer.ticket, name: name.value.trim(), answer: (made as PublicKeyCredential).toJSON() } }))
  adding.value = false
  name.value = ''
  await load()
})

async function remove(id: string) {
  await host.attempt(() => answered(api.DELETE('/v1/me/passkeys/{id}', { params: { path: { id } } })))
  await load()
}
</script>

<template>
  <div class="stack mt-3" data-passkeys>
    <ul v-if="passkeys.length" class="rows">
      <li v-for="k in passkeys" :key="k.id">
        <v-icon :icon="mdiFingerprint" aria-hidden="true" />
        <div><strong class="break">{{ k.name }}</strong><div class="small">{{ k.used ? `Used ${moment(k.used)}` : 'Never used' }} · made {{ date(k.created) }}</div></div>
        <v-btn variant="text" size="small" :icon="mdiDeleteOutline" :aria-label="`Remove the passkey ${k.name}`" @click="remove(k.id)" />
      </li>
    </ul>
    <p v-if="!able" class="mb-0 small">A passkey would sign you in without a password. It needs a page by https, at a name and not a number, with a certificate that the browser trusts.</p>
    <form v-else-if="adding" class="adding" @submit.prevent="make">
      <v-text-field v-model="name" label="What is this device called?" maxlength="60" hide-details autofocus />
      <v-btn type="submit" variant="flat" color="primary" :disabled="!name.trim()">Go on</v-btn>
    </form>
    <div v-else><v-btn variant="tonal" :prepend-icon="mdiFingerprint" data-add-passkey @click="adding = true">{{ passkeys.length ? 'Add another passkey' : 'Sign in without a password' }}</v-btn></div>
  </div>
</template>

<style scoped>
.rows { list-style: none; margin: 0; padding: 0; display: grid; gap: 8px; }
.rows li { display: grid; grid-template-columns: auto minmax(0, 1fr) auto; gap: 10px; align-items: center; }
.small { font-size: 0.84rem; opacity: 0.85; }
.adding { display: grid; grid-template-columns: minmax(0, 1fr) auto; gap: 8px; align-items: center; }
</style>
