<script setup lang="ts">
import { mdiDebugStepOver, mdiUndo } from '@mdi/js'
import { computed, ref, watch } from 'vue'

import { api, type Schemas } from '../../api/client'
import Ask from '../../ui/Ask.vue'

/** The objects of the run's file, where there are several: one that has failed is left out, and the others go on. */
const { file, skipped } = defineProps<{ file: string, skipped: string[] }>()
const emit = defineEmits<{ skip: [key: string, leaves: boolean] }>()
const objects = ref<Schemas['Object'][]>([])
const asked = ref<Schemas['Object']>()
const asking = ref(false)

watch(() => file, async name => {
  objects.value = []
  const { data } = await api.GET('/v1/shelf/{name}', { params: { path: { name } } }).catch(() => ({ data: undefined }))
  if (name === file) objects.value = data?.objects ?? []
}, { immediate: true })

const called = (o: Schemas['Object']) => o.name || `Object ${o.key}`
const place = (o: Schemas['Object']) => o.extent ? `X ${o.extent.min[0]!.toFixed(0)} to ${o.extent.max[0]!.toFixed(0)}, Y ${o.extent.min[1]!.toFixed(0)} to ${o.extent.max[1]!.toFixed(0)} mm` : 'lays nothing'
const left = computed(() => objects.value.length - skipped.length)

function ask(o: Schemas['Object']) {
  asked.value = o
  asking.value = true
}
</script>

<template>
  <div v-if="objects.length > 1" class="mt-4" data-objects>
    <h3 class="text-title-small mb-1">Objects</h3>
    <ul class="objects">
      <li v-for="o in objects" :key="o.key" :data-object="o.key">
        <div class="words break"><strong :class="{ out: skipped.includes(o.key) }">{{ called(o) }}</strong><div class="text-body-small figures">{{ skipped.includes(o.key) ? 'skipped' : o.fixed ? `cannot be skipped: ${o.fixed}` : place(o) }}</div></div>
        <v-btn v-if="skipped.includes(o.key)" variant="text" :prepend-icon="mdiUndo" @click="emit('skip', o.key, false)">Print it again</v-btn>
        <v-btn v-else variant="text" :prepend-icon="mdiDebugStepOver" :disabled="!!o.fixed || left < 2" @click="ask(o)">Skip</v-btn>
      </li>
    </ul>
    <Ask v-model="asking" :title="`Skip ${asked ? called(asked) : ''}?`" yes="Skip it" no="Print it" @yes="asked && emit('skip', asked.key, true)">
      It is not printed on; the others are. Printed again later it would have a gap.
    </Ask>
  </div>
</template>

<style scoped>
.objects { list-style: none; padding: 0; margin: 0; display: grid; gap: 6px; }
.objects li { display: flex; flex-wrap: wrap; align-items: center; gap: 8px; }
.words { flex: 1 1 180px; min-width: 0; }
.out { text-decoration: line-through; }
</style>
