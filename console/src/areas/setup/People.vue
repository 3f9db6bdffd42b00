<script setup lang="ts">
import { mdiAccountPlus, mdiDeleteOutline } from '@mdi/js'
import { onMounted, ref } from 'vue'

import { answered, api, type Schemas } from '../../api/client'
import { useHost } from '../../live/host'
import { useMe } from '../../live/me'
import Ask from '../../ui/Ask.vue'
import Panel from '../../ui/Panel.vue'
import { roles } from '../../words/people'
import Given, { type Becomes } from './Given.vue'

/** Who has an account, and what each may do. */
const host = useHost()
const me = useMe()
const accounts = ref<Schemas['Account'][]>([])
const adding = ref(false)
const name = ref('')
const password = ref('')
const role = ref<Schemas['Account']['role']>('operator')
const removing = ref<Schemas['Account']>()
const asking = ref(false)
const becomes = ref<Becomes>('end')

const load = () => host.attempt(async () => { accounts.value = (await answered(api.GET('/v1/accounts'))).accounts })
onMounted(load)

const add = () => host.attempt(async () => {
  await answered(api.POST('/v1/accounts', { body: { name: name.value.trim(), role: role.value, password: password.value } }))
  adding.value = false
  name.value = password.value = ''
  await load()
})

async function change(a: Schemas['Account'], to: Schemas['Account']['role']) {
  await host.attempt(() => answered(api.PATCH('/v1/accounts/{id}', { params: { path: { id: a.id } }, body: { role: to } })))
  await Promise.all([load(), me.load()])
}

async function remove() {
  const id = removing.value?.id
  if (id) await host.attempt(() => answered(api.DELETE('/v1/accounts/{id}', { params: { path: { id }, query: { given: becomes.value } } })))
  await load()
}
</script>

<template>
  <Panel title="People" data-people>
    <template #beside><v-btn variant="text" :prepend-icon="mdiAccountPlus" @click="adding = !adding">Add somebody</v-btn></template>
    <p v-if="!accounts.length" class="text-medium-emphasis mb-0">Nobody has an account yet: whoever is signed in may do everything.</p>
    <ul class="rows">
      <li v-for="a in accounts" :key="a.id">
        <strong class="break">{{ a.name }}{{ a.id === me.me?.account ? ' (you)' : '' }}</strong>
        <v-select :model-value="a.role" class="role" density="compact" :items="roles" hide-details :aria-label="`Role of ${a.name}`" @update:model-value="change(a, $event)" />
        <v-btn variant="text" size="small" :icon="mdiDeleteOutline" :aria-label="`Remove ${a.name}`" @click="removing = a; becomes = 'end'; asking = true" />
      </li>
    </ul>
    <form v-if="adding" class="stack mt-3" @submit.prevent="add">
      <v-text-field v-model="name" label="Name" autocomplete="off" hide-details required />
      <v-text-field v-model="password" label="A password for the beginning" type="password" autocomplete="new-password" hint="Eight characters or more; none of the commonest" persistent-hint required />
      <v-select v-model="role" label="Role" :items="roles" :item-props="r => ({ title: r.title, subtitle: r.about })" hide-details />
      <div><v-btn type="submit" variant="flat" color="primary" :disabled="!name.trim() || password.length < 8">Add</v-btn></div>
    </form>
    <Ask v-model="asking" :title="`Remove ${removing?.name}?`" yes="Remove" no="Keep" @yes="remove">
      Their sessions end at once. What they have printed stays in the log.
      <Given v-if="removing" v-model="becomes" :given="removing.given" :made="removing.made" />
    </Ask>
  </Panel>
</template>

<style scoped>
.rows { list-style: none; margin: 0; padding: 0; display: grid; gap: 8px; }
.rows li { display: grid; grid-template-columns: minmax(0, 1fr) 150px auto; align-items: center; gap: 8px; }
</style>
