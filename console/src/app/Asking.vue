<script setup lang="ts">
import { mdiAccountKey } from '@mdi/js'
import { useIntervalFn } from '../live/interval'
import { useMe } from '../live/me'
import Notice from '../ui/Notice.vue'
import { scopesInWords } from '../words/people'

/** Who asks to be let in, on every page of whoever may say yes. */
const me = useMe()
useIntervalFn(me.look, 3000)
</script>

<template>
  <Notice v-for="p in me.asking" :key="p.letters" color="primary" :icon="mdiAccountKey" class="mb-4" data-asking>
    <strong>{{ p.kind === 'session' ? 'A browser' : p.name }} asks to be let in</strong>, from {{ p.from }}.
    <div v-if="p.kind === 'program'">It wants to {{ scopesInWords(p.scopes) }}.</div>
    <div v-else>It would be signed in as you.</div>
    <div>Does it show these letters? <strong class="letters">{{ p.letters }}</strong></div>
    <template #beside>
      <div class="answers">
        <v-btn variant="text" @click="me.answer(p.letters, false)">No</v-btn>
        <v-btn variant="flat" color="primary" @click="me.answer(p.letters, true)">Yes, let it in</v-btn>
      </div>
    </template>
  </Notice>
</template>

<style scoped>
.answers { display: flex; gap: 8px; margin-left: auto; }
.letters { font-family: ui-monospace, monospace; font-size: 1.35rem; letter-spacing: 0.18em; white-space: nowrap; }
</style>
