<script setup lang="ts">
import { mdiPencilOutline } from '@mdi/js'
import { defineAsyncComponent, onMounted, ref, watch } from 'vue'

import { answered, api, type Schemas } from '../../api/client'
import { useHost } from '../../live/host'
import { useMe } from '../../live/me'
import Panel from '../../ui/Panel.vue'

/** What is loaded where: runs are held against it before they start. */
const Load = defineAsyncComponent(() => import('./Load.vue')) // when something is loaded
const host = useHost()
const me = useMe()
const slots = ref<Schemas['Slot'][]>([])
const wanted = ref(false)
const changing = ref<Schemas['Slot']>()

const load = () => answered(api.GET('/v1/slots')).then(found => { slots.value = found.slots }, () => undefined)
onMounted(load)
watch(() => host.changes.slots, load)

function open(s: Schemas['Slot']) {
  wanted.value = true
  changing.value = s
}

const range = (s: Schemas['Slot']) => s.coldest && s.hottest ? `${s.coldest} to ${s.hottest} °C` : s.hottest ? `up to ${s.hottest} °C` : s.coldest ? `from ${s.coldest} °C` : ''
</script>

<template>
  <Panel v-if="slots.length" title="Loaded" data-loaded>
    <ul class="slots">
      <li v-for="s in slots" :key="s.number" :data-slot="s.number">
        <span class="swatch" :class="{ empty: !s.colour }" :style="s.colour ? { background: s.colour } : {}" aria-hidden="true" />
        <span class="words">
          <span v-if="slots.length > 1" class="figures text-medium-emphasis">{{ s.number }}&ensp;</span>
          <strong v-if="s.loaded" class="break">{{ s.material }}</strong><span v-else class="text-medium-emphasis">Nobody has said what is loaded</span>
          <span v-if="s.loaded" class="text-body-small text-medium-emphasis">&ensp;{{ [range(s), s.diameter_mm && `${s.diameter_mm} mm`].filter(Boolean).join(', ') }}</span>
        </span>
        <v-btn v-if="me.may('operate')" variant="text" size="small" :icon="mdiPencilOutline" :aria-label="`Say what is in slot ${s.number}`" @click="open(s)" />
      </li>
    </ul>
    <Load v-if="wanted" v-model="changing" :alone="slots.length === 1" />
  </Panel>
</template>

<style scoped>
.slots { list-style: none; padding: 0; margin: 0; display: grid; gap: 4px; }
.slots li { display: flex; gap: 12px; align-items: center; }
.swatch { flex: 0 0 22px; height: 22px; border-radius: 50%; border: 1px solid rgba(var(--v-theme-on-surface), 0.5); }
.empty { background: repeating-linear-gradient(45deg, transparent 0 4px, rgba(var(--v-theme-on-surface), 0.25) 4px 5px); }
.words { flex: 1; min-width: 0; }
</style>
