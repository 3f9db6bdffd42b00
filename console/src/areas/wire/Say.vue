<script setup lang="ts">
import { mdiSend } from '@mdi/js'
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'

import { answered, api, inWords, type Problem, type Schemas } from '../../api/client'
import { useHost } from '../../live/host'
import { useKept } from '../../live/kept'
import Ask from '../../ui/Ask.vue'

/** Lines that a person types: with what was said before, what they mean, and a question before what is dangerous. */
const host = useHost()
const line = ref(String(useRoute().query['line'] ?? ''))
const busy = ref(false)
const commands = ref<Schemas['Command'][]>([])
/** What is said before the catalogue is there waits for it. */
const looked = answered(api.GET('/v1/wire/commands')).then(c => { commands.value = c.commands }, host.tell)

// What was said before outlives the page.
const most = 200
const said = useKept<string[]>('said', [], all => all.every(l => typeof l === 'string'))
let recalled = said.value.length
function keep(text: string) {
  said.value = [...said.value.filter(l => l !== text), text].slice(-most)
  recalled = said.value.length
}
function recall(step: number) {
  recalled = Math.min(Math.max(recalled + step, 0), said.value.length)
  line.value = said.value[recalled] ?? ''
}

const head = (text: string) => /^\s*([A-Za-z])\s*(\d+)/.exec(text)
const of = (text: string) => {
  const m = head(text)
  return m ? commands.value.find(c => c.command === `${m[1]!.toUpperCase()}${Number(m[2])}`) : undefined
}
const known = computed(() => of(line.value))
/** What begins as what was typed, or does what was typed in words. */
const offers = computed(() => {
  const typed = line.value.trim().toLowerCase()
  if (!typed || line.value.includes(' ') && known.value) return []
  return commands.value.filter(c => c.command.toLowerCase().startsWith(typed) && c.command.toLowerCase() !== typed || typed.length > 2 && c.does.toLowerCase().includes(typed)).slice(0, 6)
})

/** Why a line is asked about before it is said; empty: it is not. */
function danger(text: string): string {
  const c = of(text)
  if (!head(text) || /^\s*T\d/i.test(text)) return ''
  if (!c) return 'this host does not know what it does'
  if (c.beware.includes('stores')) return `it ${c.does}, which outlasts a restart`
  if (c.beware.includes('prints') || c.beware.includes('stops')) return `it ${c.does}`
  if (c.beware.includes('heats') && !/\bS0*(\.0*)?(\s|$)/i.test(text)) return `it ${c.does}: something becomes hot`
  if (/^G[0-3]$/.test(c.command) && host.motion?.homed !== 'XYZ' && /[XYZ]/i.test(text)) return 'it moves, and where the head is is not known: nothing keeps it from the end of an axis'
  return ''
}

// Lines that wait to be said, one after another.
const batch = ref<string[]>([])
const done = ref(0)
const failed = ref('')
const asking = ref(false)
const reasons = computed(() => [...new Set(batch.value.map(l => danger(l) && `${l}: ${danger(l)}`).filter(Boolean))])
const tooMany = 500

async function submit() {
  const text = line.value.trim()
  if (!text) return
  await looked
  batch.value = [text]
  if (danger(text)) asking.value = true
  else void go()
}
function paste(e: ClipboardEvent) {
  const lines = (e.clipboardData?.getData('text') ?? '').split(/\r?\n/).map(l => l.replace(/;.*$/, '').trim()).filter(Boolean)
  if (lines.length < 2) return
  e.preventDefault()
  if (lines.length > tooMany) {
    host.tell({ title: `These are ${lines.length} lines`, detail: `up to ${tooMany} go at once; send a file to the shelf for more` })
    return
  }
  batch.value = lines
  asking.value = true
}
let stopped = false
async function go() {
  busy.value = true
  failed.value = ''
  stopped = false
  const lines = batch.value
  for (done.value = 0; done.value < lines.length && !stopped; done.value++) {
    const text = lines[done.value]!
    try {
      await answered(api.POST('/v1/wire', { body: { line: text } }))
      keep(text)
    } catch (p) {
      if (lines.length === 1) host.tell(p)
      else failed.value = `Line ${done.value + 1}, ${text}: ${inWords(p as Problem)}`
      break
    }
  }
  if (done.value === lines.length && lines.length === 1) line.value = ''
  busy.value = false
}
</script>

<template>
  <div class="px-3 pt-2">
    <div v-if="offers.length" class="row mb-1" data-offers><v-btn v-for="c in offers" :key="c.command" size="small" variant="tonal" class="offer" :title="c.does" @click="line = `${c.command} `"><span class="mono">{{ c.command }}</span>&nbsp;{{ c.does }}</v-btn></div>
    <p v-else-if="known" class="text-body-small mb-1 break" data-explained>
      <strong class="mono">{{ known.command }}</strong> {{ known.does }}.
      <span v-for="p in known.parameters" :key="p.letter" class="mr-2"><span class="mono">{{ p.letter }}</span> {{ p.unit }}{{ p.means ? ` ${p.means}` : '' }};</span>
      as in <button type="button" class="mono example" @click="line = known.example">{{ known.example }}</button>
    </p>
    <p v-if="batch.length > 1 && (busy || failed)" class="text-body-small mb-1 break" :role="failed ? 'alert' : 'status'" data-batch>
      <span v-if="failed" class="text-error">{{ failed }} The {{ batch.length - done - 1 }} behind it are not said.</span>
      <span v-else>{{ done }} of {{ batch.length }} lines are said. <v-btn size="small" variant="text" @click="stopped = true">Stop</v-btn></span>
    </p>
    <form class="d-flex align-center ga-2 pb-2" @submit.prevent="submit">
      <v-text-field
        v-model="line" label="Say a line of G-code" placeholder="M115" autocapitalize="characters" autocomplete="off" spellcheck="false" class="mono" hide-details
        @keydown.up.prevent="recall(-1)" @keydown.down.prevent="recall(1)" @paste="paste"
      />
      <v-btn type="submit" color="primary" variant="flat" height="40" :icon="mdiSend" rounded="lg" :loading="busy" :disabled="!host.live" title="Say it" aria-label="Say it" />
    </form>
    <Ask v-model="asking" :title="batch.length > 1 ? `Say these ${batch.length} lines?` : `Say ${batch[0]}?`" :yes="batch.length > 1 ? 'Say them' : 'Say it'" no="Leave it" @yes="go">
      <ul v-if="reasons.length" class="pl-4" data-dangers><li v-for="r in reasons.slice(0, 8)" :key="r">{{ r }}</li></ul>
      <p v-if="batch.length > 1" class="mb-0">They are said one after another, and none behind one that is refused.</p>
    </Ask>
  </div>
</template>

<style scoped>
.offer { max-width: 100%; text-transform: none; overflow: hidden; }
.example { appearance: none; background: none; border: 0; padding: 0; font: inherit; cursor: pointer; color: rgb(var(--v-theme-primary)); text-decoration: underline; }
</style>
