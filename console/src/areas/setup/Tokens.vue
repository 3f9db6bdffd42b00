<script setup lang="ts">
import { mdiApplicationBraces, mdiMonitor } from '@mdi/js'
import { computed, onMounted, ref } from 'vue'

import { answered, api, type Schemas } from '../../api/client'
import { useHost } from '../../live/host'
import Ask from '../../ui/Ask.vue'
import Panel from '../../ui/Panel.vue'
import { scopesInWords } from '../../words/people'
import { date, moment } from '../../words/time'
import Given, { type Becomes } from './Given.vue'

/** Programs and browsers that are let in, when each was used last, and how to be rid of one. */
const host = useHost()
const tokens = ref<Schemas['TokenInfo'][]>([])
const shown = computed(() => [...tokens.value].sort((a, b) => Number(a.kind === 'session') - Number(b.kind === 'session') || (b.used ?? '').localeCompare(a.used ?? '')))

const load = () => host.attempt(async () => { tokens.value = (await answered(api.GET('/v1/tokens'))).tokens })
onMounted(load)
defineExpose({ load })

const ending = ref<Schemas['TokenInfo']>()
const asking = ref(false)
const becomes = ref<Becomes>('end')
const called = (t: Schemas['TokenInfo']) => t.kind === 'program' ? t.name : t.account ? `Browser of ${t.name}` : 'A browser'

/** Whoever has let nobody in is asked about no further. */
function end(t: Schemas['TokenInfo']) {
  ending.value = t
  becomes.value = 'end'
  asking.value = t.given.length + t.made.length > 0
  if (!asking.value) void withdraw()
}

async function withdraw() {
  const id = ending.value?.id
  if (id) await host.attempt(() => answered(api.DELETE('/v1/tokens/{id}', { params: { path: { id }, query: { given: becomes.value } } })))
  await load()
}
</script>

<template>
  <Panel title="Who is let in" data-tokens>
    <ul class="rows">
      <li v-for="t in shown" :key="t.id">
        <v-icon :icon="t.kind === 'session' ? mdiMonitor : mdiApplicationBraces" aria-hidden="true" />
        <div class="words">
          <strong class="break">{{ called(t) }}{{ t.own ? ' (this one)' : '' }}</strong>
          <div class="small">May {{ scopesInWords(t.scopes) }}</div>
          <div class="small">{{ t.used ? `Used ${moment(t.used)} from ${t.used_from}` : 'Never used' }} · made {{ date(t.created) }}{{ t.kind === 'program' && t.maker ? ` by ${t.maker}` : '' }}{{ t.expires ? ` · until ${date(t.expires)}` : '' }}</div>
          <div v-if="t.given.length" class="small">Has let in {{ t.given.join(', ') }}</div>
        </div>
        <v-btn v-if="!t.own" variant="text" size="small" color="error" :aria-label="`Withdraw ${t.name}`" @click="end(t)">{{ t.kind === 'session' ? 'End' : 'Withdraw' }}</v-btn>
      </li>
    </ul>
    <Ask v-model="asking" :title="ending ? `Let ${called(ending)} in no more?` : ''" yes="End it" no="Leave it" @yes="withdraw">
      It ends at once, also where it is in use.
      <Given v-if="ending" v-model="becomes" :given="ending.given" :made="ending.made" />
    </Ask>
  </Panel>
</template>

<style scoped>
.rows { list-style: none; margin: 0; padding: 0; display: grid; gap: 12px; }
.rows li { display: grid; grid-template-columns: auto minmax(0, 1fr) auto; gap: 10px; align-items: start; }
.small { font-size: 0.84rem; opacity: 0.85; overflow-wrap: anywhere; }
</style>
