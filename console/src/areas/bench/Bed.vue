<script setup lang="ts">
import { mdiBroom, mdiCubeOutline } from '@mdi/js'
import { computed, onMounted, ref } from 'vue'

import { answered, api, type Schemas } from '../../api/client'
import { useHost } from '../../live/host'
import { useIntervalFn } from '../../live/interval'
import { useMe } from '../../live/me'
import State from '../../ui/State.vue'
import { sentence } from '../../words/numbers'
import { bedStates } from '../../words/states'
import { countdown, soon } from '../../words/time'

/** What lies on the bed between prints. Nothing starts on one that is not clear, so a person says so here. */
const host = useHost()
const me = useMe()
const bed = computed(() => host.bed)

/** When the part comes off: of a bed that is turned off and warm still. */
const model = ref<Schemas['HeatModel']>()
const cooling = computed(() => host.heaters.find(h => h.heater === 'bed' && !h.setpoint && (h.actual ?? 0) > 30))
const look = () => {
  if (bed.value?.state !== 'clear' && cooling.value) answered(api.GET('/v1/heat/models')).then(all => { model.value = all.models.find(m => m.heater === 'bed') }, () => undefined)
  else model.value = undefined
}
onMounted(look)
useIntervalFn(look, 10000)
const off = computed(() => {
  const m = model.value
  if (!m?.known || !m.part_off_at || bed.value?.state === 'clear') return ''
  if (m.part_off_seconds === 0) return 'It is cool enough to take the part off.'
  return m.part_off_seconds ? `Cool enough to take the part off, ${m.part_off_at} °C, in about ${countdown(m.part_off_seconds)}.` : ''
})
</script>

<template>
  <div v-if="bed" class="bed" data-bed :data-state="bed.state">
    <div class="words">
      <div class="head"><strong>Bed</strong><State :shown="bedStates[bed.state]" /></div>
      <div class="text-body-small text-medium-emphasis break">{{ sentence(bed.why) }}, {{ soon(bed.since) }}</div>
      <div v-if="off" class="text-body-small figures" data-part-off>{{ off }}</div>
    </div>
    <template v-if="me.may('operate')">
      <v-btn v-if="bed.state !== 'clear'" variant="tonal" color="primary" size="large" :prepend-icon="mdiBroom" data-clear @click="host.sayBed(true)">It is clear</v-btn>
      <v-btn v-else variant="text" :prepend-icon="mdiCubeOutline" @click="host.sayBed(false)">Something lies on it</v-btn>
    </template>
  </div>
</template>

<style scoped>
.bed { display: flex; flex-wrap: wrap; gap: 8px 16px; align-items: center; padding-top: 12px; border-top: 1px solid rgba(var(--v-border-color), var(--v-border-opacity)); }
.words { flex: 1 1 220px; min-width: 0; }
.head { display: flex; gap: 12px; align-items: center; }
</style>
