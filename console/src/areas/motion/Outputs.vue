<script setup lang="ts">
import { reactive } from 'vue'

import { answered, api, type Schemas } from '../../api/client'
import { useHost } from '../../live/host'
import Panel from '../../ui/Panel.vue'
import { sentence } from '../../words/numbers'
import { clock } from '../../words/time'

/** Fans, lights and pins: what each was last set to, and by whom. */
const host = useHost()
const dragged = reactive<Record<string, number>>({}) // while a thumb is on it

async function set(o: Schemas['Output'], level: number) {
  await host.attempt(async () => { host.outputs = (await answered(api.PUT('/v1/outputs/{name}', { params: { path: { name: o.name } }, body: { level } }))).outputs })
  delete dragged[o.name]
}
const words = (o: Schemas['Output']) => o.level === undefined ? 'not set' : o.levels ? `${o.level} %` : o.level > 0 ? 'on' : 'off'
</script>

<template>
  <Panel v-if="host.outputs.length" title="Fans, lights, outputs" data-outputs>
    <div class="stack">
      <div v-for="o in host.outputs" :key="o.name" :data-output="o.name">
        <div class="head"><strong>{{ sentence(o.name) }}</strong><span class="figures">{{ dragged[o.name] !== undefined ? `${dragged[o.name]} %` : words(o) }}</span></div>
        <div class="row">
          <v-slider v-if="o.levels" :model-value="dragged[o.name] ?? o.level ?? 0" :min="0" :max="100" :step="5" hide-details :disabled="!host.live" :aria-label="`${o.name}, %`" @update:model-value="dragged[o.name] = $event" @end="set(o, $event)" @keyup="dragged[o.name] !== undefined && set(o, dragged[o.name]!)" />
          <v-btn variant="tonal" :disabled="!host.live || o.level === 0" :aria-label="`${o.name} off`" @click="set(o, 0)">Off</v-btn>
          <v-btn variant="tonal" :disabled="!host.live || o.level === 100" :aria-label="`${o.name} full`" @click="set(o, 100)">{{ o.levels ? 'Full' : 'On' }}</v-btn>
        </div>
        <div v-if="o.at" class="text-body-small text-medium-emphasis break">by {{ o.by }}, {{ clock(o.at, true) }}</div>
      </div>
    </div>
  </Panel>
</template>

<style scoped>
.head { display: flex; justify-content: space-between; gap: 12px; }
.v-slider { flex: 1 1 160px; min-width: 120px; }
</style>
