<script setup lang="ts">
import { onMounted, ref } from 'vue'

import { answered, api, type Schemas } from '../../api/client'
import { useHost } from '../../live/host'
import Panel from '../../ui/Panel.vue'

/** Warm up with one touch: by a named set, or for the file that was run last. */
const host = useHost()
const kept = ref<Schemas['WarmUp'][]>([])
onMounted(() => { host.attempt(async () => { kept.value = (await answered(api.GET('/v1/warm-ups'))).warm_ups }) })
const begin = (body: Schemas['BeginWarmUp']) => host.attempt(() => answered(api.POST('/v1/heat/warm-up', { body })))
</script>

<template>
  <Panel v-if="!host.going && (kept.length || host.run)" title="Warm up" data-sets>
    <template #beside><v-btn variant="text" to="/heat">Sets</v-btn></template>
    <div class="row">
      <v-btn v-for="w in kept" :key="w.name" variant="tonal" :disabled="!host.live" :data-set="w.name" @click="begin({ name: w.name })">{{ w.spool ? `${w.spool}: ${w.name}` : w.name }}</v-btn>
      <v-btn v-if="host.run" variant="tonal" class="break" :disabled="!host.live" @click="begin({ file: host.run.file })">For {{ host.run.file }}</v-btn>
    </div>
  </Panel>
</template>
