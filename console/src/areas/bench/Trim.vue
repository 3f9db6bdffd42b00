<script setup lang="ts">
import { mdiMinus, mdiPlus, mdiRestore } from '@mdi/js'
import { computed } from 'vue'

import type { Schemas } from '../../api/client'
import { settable, type Settable } from '../../api/settable.gen'
import { useHost } from '../../live/host'
import { heaterName } from '../../words/heaters'
import { isNumber, type NumberKey } from './trim'

/** How a run differs from its file, in steps, with the file's own value in view and the way back to it. */
const { origin, first = true } = defineProps<{ origin: Record<string, number>, first?: boolean }>()
const trim = defineModel<Schemas['Trim']>({ required: true })
const host = useHost()

interface Row {
  key: string, name: string, is: number, file: number, unit: string
  steps: readonly [number, number], least: number, most: number, digits: number, zero?: string
  set: (v: number) => Schemas['Trim']
}

/** A number that is the same for the whole printer. What is at least of something is never above what is at most of it. */
function plain(key: NumberKey): Row {
  const f: Settable = settable.Trim[key]
  const is = (of: NumberKey) => trim.value[of] || settable.Trim[of].usual
  return {
    key, name: f.word, file: f.usual, unit: f.unit ?? '', steps: f.steps, zero: f.zero, is: is(key), digits: f.steps[1] < 1 ? 2 : 0,
    least: key === 'fan_most_percent' ? Math.max(is('fan_least_percent'), f.least) : f.least,
    most: key === 'fan_least_percent' ? is('fan_most_percent') : f.most,
    set: v => ({ ...trim.value, [key]: v === f.usual ? 0 : v }),
  }
}

/** What is added to a heater's setpoints, shown as the setpoint that comes of it. */
function heated(of: 'heaters' | 'first_layer', h: string, name: string): Row {
  const f = settable.Trim[of]
  const more = of === 'heaters' ? 0 : trim.value.heaters?.[h] ?? 0
  const file = origin[h]! + more
  const limit = host.heaters.find(x => x.heater === h)?.limit ?? 0
  return {
    key: `${of}.${h}`, name, file, unit: '°C', steps: f.steps, digits: 0,
    least: Math.max(file + f.least, 0), most: Math.min(file + f.most, limit), is: file + (trim.value[of]?.[h] ?? 0),
    set: v => ({ ...trim.value, [of]: { ...trim.value[of], [h]: Math.round((v - file) * 10) / 10 } }),
  }
}

const heaters = () => Object.keys(origin).filter(h => origin[h]! > 0).sort().reverse().flatMap(h => {
  const name = heaterName(h, host.printer?.tools)
  return [heated('heaters', h, name), ...first ? [heated('first_layer', h, `${name}, first layer`)] : []]
})
const rows = computed<Row[]>(() => Object.keys(settable.Trim).flatMap(key => isNumber(key) ? [plain(key)] : key === 'heaters' ? heaters() : []))

const round = (v: number, digits: number) => Math.round(v * 10 ** digits) / 10 ** digits
/** A number that is as in the file at 0 goes there from its least. */
const lowest = (r: Row) => r.zero && r.file === 0 ? 0 : r.least
function by(r: Row, step: number) {
  const to = r.is + step
  trim.value = r.set(to < r.least && step < 0 ? lowest(r) : round(Math.min(Math.max(to, r.least), r.most), r.digits))
}
const shown = (r: Row, v: number) => v === 0 && r.zero ? r.zero : `${r.least < 0 && v > 0 ? '+' : ''}${v.toFixed(r.digits)} ${r.unit}`
</script>

<template>
  <div class="trim" data-trim>
    <div v-for="r in rows" :key="r.key" class="one" :data-row="r.key">
      <span class="name">{{ r.name }}</span>
      <span class="figures is" :class="{ other: r.is !== r.file }">{{ shown(r, r.is) }}</span>
      <span class="steps">
        <v-btn v-for="s in [-r.steps[0], -r.steps[1], r.steps[1], r.steps[0]]" :key="s" variant="tonal" size="small" class="step" :disabled="s < 0 ? r.is <= lowest(r) : r.is >= r.most" :aria-label="`${r.name} ${s > 0 ? '+' : ''}${s} ${r.unit}`" @click="by(r, s)">
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
