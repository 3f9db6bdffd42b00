<script setup lang="ts">
import { mdiMinus, mdiPlus, mdiRestore } from '@mdi/js'
import { computed } from 'vue'

import type { Schemas } from '../../api/client'
import { useHost } from '../../live/host'
import { heaterName } from '../../words/heaters'

/** How a run differs from its file, in steps, with the file's own value in view and the way back to it. */
const { origin, first = true } = defineProps<{ origin: Record<string, number>, first?: boolean }>()
const trim = defineModel<Schemas['Trim']>({ required: true })
const host = useHost()

type Number = 'speed_percent' | 'flow_percent' | 'height_mm' | 'acceleration' | 'fan_least_percent' | 'fan_most_percent'
interface Row { key: string, name: string, is: number, file: number, unit: string, steps: [number, number], least: number, most: number, digits: number, heat?: boolean, set: (v: number) => Schemas['Trim'] }

const plain = (key: Number, name: string, file: number, unit: string, steps: [number, number], least: number, most: number, digits = 0, heat = false): Row => ({
  key, name, file, unit, steps, least, most, digits, heat, is: trim.value[key] || file,
  set: v => ({ ...trim.value, [key]: v === file ? 0 : v }),
})

const heated = (of: 'heaters' | 'first_layer', h: string, name: string): Row => {
  const more = of === 'heaters' ? 0 : trim.value.heaters?.[h] ?? 0
  const file = origin[h]! + more
  const limit = host.heaters.find(x => x.heater === h)?.limit ?? 0
  return {
    key: `${of}.${h}`, name, file, unit: '°C', steps: [5, 1], least: Math.max(file - 50, 0), most: Math.min(file + 50, limit), digits: 0, heat: true, is: file + (trim.value[of]?.[h] ?? 0),
    set: v => ({ ...trim.value, [of]: { ...trim.value[of], [h]: Math.round((v - file) * 10) / 10 } }),
  }
}

const rows = computed<Row[]>(() => [
  plain('speed_percent', 'Speed', 100, '%', [10, 1], 10, 300),
  plain('flow_percent', 'Flow', 100, '%', [5, 1], 50, 150),
  plain('height_mm', 'Nozzle higher', 0, 'mm', [0.05, 0.01], -1, 1, 2),
  ...Object.keys(origin).filter(h => origin[h]! > 0).sort().reverse().flatMap(h => [
    heated('heaters', h, heaterName(h, host.printer?.tools)), ...first ? [heated('first_layer', h, `${heaterName(h, host.printer?.tools)}, first layer`)] : [],
  ]),
  plain('fan_least_percent', 'Fan at least', 0, '%', [10, 1], 0, trim.value.fan_most_percent || 100, 0, true),
  plain('fan_most_percent', 'Fan at most', 100, '%', [10, 1], Math.max(trim.value.fan_least_percent ?? 0, 1), 100, 0, true),
  plain('acceleration', 'Acceleration', 0, 'mm/s²', [500, 100], 0, 20000),
])

const round = (v: number, digits: number) => Math.round(v * 10 ** digits) / 10 ** digits
function by(r: Row, step: number) { trim.value = r.set(round(Math.min(Math.max(r.is + step, r.least), r.most), r.digits)) }
const shown = (r: Row, v: number) => r.key === 'acceleration' && v === 0 ? 'as sliced' : `${r.key === 'height_mm' && v > 0 ? '+' : ''}${v.toFixed(r.digits)} ${r.unit}`
</script>

<template>
  <div class="trim" data-trim>
    <div v-for="r in rows" :key="r.key" class="one" :data-row="r.key">
      <span class="name">{{ r.name }}</span>
      <span class="figures is" :class="{ other: r.is !== r.file }">{{ shown(r, r.is) }}</span>
      <span class="steps">
        <v-btn v-for="s in [-r.steps[0], -r.steps[1], r.steps[1], r.steps[0]]" :key="s" variant="tonal" size="small" class="step" :disabled="s < 0 ? r.is <= r.least : r.is >= r.most" :aria-label="`${r.name} ${s > 0 ? '+' : ''}${s} ${r.unit}`" @click="by(r, s)">
          <v-icon :icon="s < 0 ? mdiMinus : mdiPlus" size="14" />{{ Math.abs(s) }}
        </v-btn>
      </span>
      <v-btn variant="text" size="small" class="file" :prepend-icon="mdiRestore" :disabled="r.is === r.file" :aria-label="`${r.name} as in the file`" @click="trim = r.set(r.file)">{{ shown(r, r.file) }}</v-btn>
    </div>
  </div>
</template>

<style scoped>
.trim { display: grid; gap: 10px; }
.one { display: grid; grid-template-columns: minmax(90px, 1fr) 90px auto 104px; gap: 4px 10px; align-items: center; }
.is { text-align: right; }
.other { font-weight: 700; color: rgb(var(--v-theme-primary)); }
.steps { display: flex; gap: 4px; }
.step { width: 62px; min-width: 0; padding: 0 4px; }
.file { justify-content: start; min-width: 0; }
/* On a phone, and where the page has two columns that are narrow. */
@media (max-width: 719px), (min-width: 960px) and (max-width: 1239px) { .one { grid-template-columns: 1fr auto 104px; } .steps { grid-column: 1 / -1; order: 1; } .step { flex: 1; width: auto; min-height: 40px; } }
</style>
