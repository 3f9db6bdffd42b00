<script setup lang="ts">
import { computed, onMounted, ref, watch } from 'vue'
import { useRoute } from 'vue-router'

import { answered, api, type Schemas } from '../../api/client'
import { useHost } from '../../live/host'
import { useMe } from '../../live/me'
import { useRoutines } from '../../live/routines'
import Ask from '../../ui/Ask.vue'
import Page from '../../ui/Page.vue'
import Panel from '../../ui/Panel.vue'
import { performances } from '../../words/states'
import { moment } from '../../words/time'
import Perform from './Perform.vue'

/** Every routine: read, written, checked as it is typed, performed, and what was performed. */
const host = useHost()
const me = useMe()
const routines = useRoutines()
const route = useRoute()
const chosen = ref('')
const text = ref('')
const found = ref<Schemas['Routine']>()
const wrong = ref('')
const performing = ref<Schemas['Routine']>()
const removing = ref(false)
const past = ref<Schemas['Performance'][]>([])
const looked = ref<Schemas['Performance']>()

const current = computed(() => routines.all?.find(r => r.name === chosen.value))
const changed = computed(() => text.value !== (current.value?.text ?? ''))
const blank = 'language 1\nroutine "New"\nabout "What it does."\nbutton motion\nsafe heaters off\n\ntake temperature: number °C 170..nozzle0.limit = 200\n\ndo\n  heat nozzle0 to temperature\n  wait until nozzle0 is ready at most 10 min\n  ask "Is it done?" at most 10 min, else stop\n  answer "Yes"\n  end\n  cool nozzle0\nend\n'

function choose(name: string) {
  chosen.value = name
  text.value = current.value?.text ?? blank
}
async function load() {
  await routines.load()
  past.value = (await answered(api.GET('/v1/performances', { params: { query: { limit: 20 } } }))).performances
  const named = routines.all?.find(r => r.name === route.query['name']) ?? routines.all?.[0]
  if (!chosen.value && named) choose(named.name)
}
onMounted(() => { host.attempt(load) })
watch(() => host.routine?.ended, () => { host.attempt(load) })

let timer = 0
watch(text, () => {
  window.clearTimeout(timer)
  timer = window.setTimeout(check, 400)
})
async function check() {
  const { data, error } = await api.POST('/v1/routines/check', { body: { text: text.value } })
  found.value = data
  wrong.value = error ? error.detail ?? error.title : ''
}
async function store() {
  await check()
  const name = found.value?.name
  if (name && await host.attempt(() => answered(api.PUT('/v1/routines/{name}', { params: { path: { name } }, body: { text: text.value } })))) {
    await load()
    choose(name)
  }
}
async function remove() {
  const name = chosen.value
  if (await host.attempt(() => answered(api.DELETE('/v1/routines/{name}', { params: { path: { name } } })))) {
    await load()
    choose(current.value ? name : routines.all?.[0]?.name ?? '')
  }
}
async function look(id: string) {
  await host.attempt(async () => { looked.value = looked.value?.id === id ? undefined : await answered(api.GET('/v1/performances/{id}', { params: { path: { id } } })) })
}
</script>

<template>
  <Page title="Routines" :loading="!routines.all">
    <div class="columns">
      <Panel title="All of them">
        <template #beside>
          <div class="row"><v-btn variant="text" to="/motion">Back to Motion</v-btn><v-btn v-if="me.keeps" variant="text" data-new @click="choose('')">New…</v-btn></div>
        </template>
        <ul class="list">
          <li v-for="r in routines.all" :key="r.name">
            <button type="button" class="pick" :aria-current="r.name === chosen" :data-choose="r.name" @click="choose(r.name)"><strong>{{ r.name }}</strong><span class="text-body-small text-medium-emphasis">{{ r.trouble ? `Cannot be performed: ${r.trouble}` : r.about }}</span></button>
            <v-btn variant="tonal" size="small" :disabled="routines.fits(r) !== ''" :title="routines.fits(r)" :aria-label="`Perform ${r.name}`" @click="performing = r">Perform</v-btn>
          </li>
        </ul>
      </Panel>
      <div class="stack">
        <Panel :title="chosen || 'A new routine'">
          <template #beside>
            <div class="row">
              <v-btn v-if="me.keeps && current?.own" variant="text" @click="removing = true">{{ current.ready ? 'As it came' : 'Remove' }}</v-btn>
              <v-btn v-if="me.keeps" variant="flat" color="primary" :disabled="!changed || wrong !== ''" data-store @click="store">Store</v-btn>
            </div>
          </template>
          <v-textarea v-model="text" class="code" label="Its text" :readonly="!me.keeps" rows="16" auto-grow spellcheck="false" autocapitalize="off" hide-details data-text />
          <p v-if="wrong" class="text-error mt-2 mb-0" role="alert" data-wrong>{{ wrong }}</p>
          <ul v-else-if="found" class="text-body-small pl-4 mt-2 mb-0" data-may><li v-for="line in found.sentences" :key="line">{{ line }}</li></ul>
        </Panel>
        <Panel title="What was performed">
          <p v-if="!past.length" class="mb-0 text-medium-emphasis">Nothing yet.</p>
          <ul class="list">
            <li v-for="p in past" :key="p.id">
              <button type="button" class="pick" :aria-expanded="looked?.id === p.id" @click="look(p.id)"><strong>{{ p.routine }}</strong><span class="text-body-small text-medium-emphasis">{{ moment(p.begun) }}, {{ performances[p.state].word }}{{ p.why ? `: ${p.why}` : '' }}, by {{ p.by }}</span></button>
              <ol v-if="looked?.id === p.id" class="entries text-body-small figures"><li v-for="(e, i) in looked.entries" :key="i"><span class="text-medium-emphasis">{{ e.at_seconds.toFixed(1) }} s, {{ e.kind }}</span> {{ e.text }}</li></ol>
            </li>
          </ul>
        </Panel>
      </div>
    </div>
    <Perform v-model="performing" />
    <Ask v-model="removing" :title="current?.ready ? 'Take it back to how it came?' : 'Remove this routine?'" :yes="current?.ready ? 'As it came' : 'Remove it'" no="Keep it" @yes="remove">What you have written of {{ chosen }} is gone then.</Ask>
  </Page>
</template>

<style scoped>
.list { list-style: none; padding: 0; margin: 0; }
.list li { display: flex; flex-wrap: wrap; align-items: center; gap: 8px; padding: 6px 0; border-bottom: 1px solid rgba(var(--v-border-color), var(--v-border-opacity)); }
.pick { appearance: none; background: none; border: 0; padding: 0; font: inherit; color: inherit; cursor: pointer; flex: 1 1 200px; min-width: 0; text-align: left; display: flex; flex-direction: column; min-height: 44px; justify-content: center; overflow-wrap: anywhere; }
.pick[aria-current="true"] strong { color: rgb(var(--v-theme-primary)); }
.entries { flex-basis: 100%; padding-left: 16px; margin: 0; max-height: 40vh; overflow: auto; overflow-wrap: anywhere; }
.entries li { display: list-item; border: 0; padding: 1px 0; }
.code :deep(textarea) { font-family: ui-monospace, monospace; font-size: 0.85rem; line-height: 1.5; }
</style>
