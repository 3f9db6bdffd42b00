<script setup lang="ts">
import type { Schemas } from '../../api/client'
import NumberField from '../../ui/NumberField.vue'
import type { Description, Key, size } from './describe'

/** Asks for numbers of a printer: what the printer tells itself is offered, and what diathermon.toml decides is shown. */
const { fields, described } = defineProps<{ fields: typeof size, described: Schemas['Described'] }>()
const draft = defineModel<Description>({ required: true })

const number = (of: Description, key: Key) => of[key] as number | undefined
const put = (key: Key, value: number | undefined) => { draft.value = { ...draft.value, [key]: value } }
const fixed = (key: Key) => described.by[key] === 'file'
/** What the printer tells, where it is another number. */
const other = (key: Key) => number(described.told, key) !== undefined && number(described.told, key) !== number(draft.value, key) && !fixed(key)
</script>

<template>
  <div class="numbers">
    <div v-for="f in fields" :key="f.key">
      <NumberField :model-value="number(draft, f.key)" :label="f.label" :unit="f.unit" :least="f.least" :most="f.most" :whole="f.whole" :disabled="fixed(f.key)" :data-field="f.key" @update:model-value="v => put(f.key, v)" />
      <span v-if="fixed(f.key)" class="hint">decided in <code>diathermon.toml</code></span>
      <v-btn v-else-if="other(f.key)" variant="text" size="small" density="compact" class="hint" @click="put(f.key, number(described.told, f.key))">It says {{ number(described.told, f.key) }} {{ f.unit }}: take that</v-btn>
    </div>
  </div>
</template>

<style scoped>
.numbers { display: grid; grid-template-columns: repeat(auto-fit, minmax(150px, 1fr)); gap: 12px; align-items: start; }
.hint { font-size: 0.8rem; opacity: 0.85; }
</style>
