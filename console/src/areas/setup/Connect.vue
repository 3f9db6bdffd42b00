<script setup lang="ts">
import { mdiAlertCircle, mdiCheckCircle, mdiConnection } from '@mdi/js'
import { computed, ref, watch } from 'vue'

import { at, base } from '../../api/base'
import { answered, api, asProblem, inWords, type Problem, type Schemas } from '../../api/client'
import { useHost } from '../../live/host'
import Copy from '../../ui/Copy.vue'
import Notice from '../../ui/Notice.vue'
import Panel from '../../ui/Panel.vue'
import { sentence } from '../../words/numbers'
import { linesFor, lives, scopesFor, type Then, thens, type Way, ways } from './connect'
import Drawing from './Drawing.vue'

/** Connects a program: how it can send, what becomes of its files, and then what to copy into it. */
const { addresses = undefined } = defineProps<{ addresses?: Schemas['Addresses'] }>()
const emit = defineEmits<{ made: [] }>()
const host = useHost()
const way = ref<Way>('http')
const then = ref<Then>('store')
const name = ref('slicer')
const goodFor = ref(0)
const token = ref('')
const trial = ref<{ good: boolean, said: string, todo: string }[]>([])
const busy = ref(false)

/** As the program reaches the host: as this browser does, unless that is the host's own computer. */
const origin = computed(() => ['localhost', '127.0.0.1', '[::1]'].includes(location.hostname) && addresses?.urls[0] ? addresses.urls[0] : location.origin + base)
const lines = computed(() => linesFor(way.value, then.value, origin.value, token.value || 'TOKEN', addresses?.seal?.own ? addresses.seal.key : ''))
watch([way, then], () => { token.value = ''; trial.value = [] })

const make = () => host.attempt(async () => {
  token.value = (await answered(api.POST('/v1/tokens', { body: { name: name.value.trim(), scopes: scopesFor(way.value, then.value), expires: goodFor.value ? new Date(Date.now() + goodFor.value * 86_400_000).toISOString() : undefined } }))).token
  trial.value = []
  emit('made')
})

/** Asks as the program would: whether the address is reached, the token good, the printer ready. */
async function attempt() {
  busy.value = true
  const said: typeof trial.value = []
  const reached = await fetch(at('/healthz')).then(r => r.ok, () => false)
  said.push(reached ? { good: true, said: `${origin.value} is reached`, todo: '' } : { good: false, said: `${origin.value} is not reached`, todo: 'Is the host running, and is this device on its network?' })
  if (reached) {
    const answer = await fetch(at('/v1/trial'), { headers: { Authorization: `Bearer ${token.value}` }, credentials: 'omit' })
    const body: unknown = await answer.json().catch(() => undefined)
    if (answer.ok) {
      const t = body as Schemas['Trial']
      said.push({ good: true, said: `The token of ${t.name} is accepted`, todo: '' })
      said.push(t.ready ? { good: true, said: `${t.printer} is ready`, todo: '' } : { good: false, said: sentence(t.why ?? ''), todo: `${sentence(t.do ?? '')}. Files are stored all the same.` })
    } else {
      const p: Problem = asProblem(body, answer.status)
      said.push({ good: false, said: sentence(inWords(p)), todo: 'Make a new token.' })
    }
  }
  trial.value = said
  busy.value = false
}
</script>

<template>
  <Panel title="Connect a program" data-connect-program>
    <div class="stack">
      <v-radio-group v-model="way" label="How can it send?" hide-details>
        <v-radio v-for="w in ways" :key="w.value" :value="w.value"><template #label><div><strong>{{ w.title }}</strong><div class="about">{{ w.about }}</div></div></template></v-radio>
      </v-radio-group>
      <Drawing :way="way" />
      <div class="pair">
        <v-select v-model="then" label="What becomes of its files?" :items="thens" hide-details />
        <v-text-field v-model="name" label="What is the program called?" maxlength="60" hide-details />
        <v-select v-model="goodFor" label="How long is it let in?" :items="lives" hide-details />
      </div>
      <div><v-btn variant="flat" color="primary" :prepend-icon="mdiConnection" :disabled="!name.trim()" data-make @click="make">Make its token</v-btn></div>
      <template v-if="token">
        <p class="mb-0"><strong>Copy this into the program.</strong> The token is shown this once; it may only {{ then === 'store' ? 'put files on the shelf' : 'put files on the shelf and start them' }}{{ way === 'folder' ? ', and see what is there' : '' }}.</p>
        <Copy v-for="l in lines" :key="l.name" :name="l.name" :text="l.text" />
        <p v-if="way === 'folder' && addresses?.watched" class="mb-0">Or let it save to <code>{{ addresses.watched.path }}</code> on the host's own disk{{ addresses.watched.start && then !== 'store' ? `, in its folder ${then}` : '' }}.</p>
        <div><v-btn variant="tonal" :loading="busy" data-try @click="attempt">Try it</v-btn></div>
        <Notice v-for="t in trial" :key="t.said" :color="t.good ? 'success' : 'error'" :icon="t.good ? mdiCheckCircle : mdiAlertCircle" data-tried>{{ t.said }}<template v-if="t.todo">. {{ t.todo }}</template></Notice>
      </template>
    </div>
  </Panel>
</template>

<style scoped>
:deep(.v-radio) { margin-bottom: 8px; }
.about { font-size: 0.86rem; opacity: 0.8; }
.pair { display: grid; grid-template-columns: repeat(auto-fit, minmax(220px, 1fr)); gap: 12px; }
</style>
