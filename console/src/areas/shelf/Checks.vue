<script setup lang="ts">
import { mdiCheck, mdiInformationOutline } from '@mdi/js'
import { computed } from 'vue'

import type { Schemas } from '../../api/client'
import { useHost } from '../../live/host'
import { useMe } from '../../live/me'
import Notice from '../../ui/Notice.vue'
import { sentence } from '../../words/numbers'
import { checkLevels } from '../../words/states'

/** What stands between a file and its start, to be read in five seconds: what is in the way, what to do, and in one line what is as it should be. */
const { checks = [], fine = [] } = defineProps<{ checks?: Schemas['Check'][], fine?: Schemas['Fine'][] }>()
/** Why a block does not matter, by its kind. */
const whys = defineModel<Record<string, string>>({ required: true })
const emit = defineEmits<{ look: [] }>()
const graver = computed(() => checks.filter(c => c.level !== 'note'))
const notes = computed(() => checks.filter(c => c.level === 'note'))
const host = useHost()
const me = useMe()

const set = (kind: string, why?: string) => {
  whys.value = Object.fromEntries([...Object.entries(whys.value).filter(([k]) => k !== kind), ...why === undefined ? [] : [[kind, why] as const]])
}

async function clear() {
  if (await host.sayBed(true)) emit('look')
}
</script>

<template>
  <div class="checks" data-checks>
    <Notice v-for="c in graver" :key="c.kind + c.title" :color="whys[c.kind] ? 'warning' : checkLevels[c.level].color" :icon="checkLevels[c.level].icon" :data-check="c.kind">
      <strong>{{ sentence(c.title) }}.</strong>
      <template v-if="c.expected"> Expected: {{ c.expected }}.</template>
      {{ sentence(c.do) }}.
      <v-text-field
        v-if="c.overrule && whys[c.kind] !== undefined" class="mt-2" label="Why does it not matter?" maxlength="200" counter density="compact" autofocus
        :model-value="whys[c.kind]" data-why @update:model-value="set(c.kind, $event)"
      />
      <template #beside>
        <v-btn v-if="c.kind === 'bed' && me.may('operate')" variant="tonal" color="primary" data-clear @click="clear">The bed is clear</v-btn>
        <v-btn v-else-if="c.overrule && me.may('operate')" variant="text" @click="set(c.kind, whys[c.kind] === undefined ? '' : undefined)">{{ whys[c.kind] === undefined ? 'It does not matter…' : 'It does matter' }}</v-btn>
      </template>
    </Notice>
    <ul v-if="notes.length" class="notes">
      <li v-for="c in notes" :key="c.kind + c.title" :data-check="c.kind"><v-icon :icon="mdiInformationOutline" size="18" color="info" aria-label="Note" /><span>{{ sentence(c.title) }}. {{ sentence(c.do) }}.</span></li>
    </ul>
    <ul v-if="fine.length" class="fine" aria-label="As it should be">
      <li v-for="f in fine" :key="f.kind"><v-icon :icon="mdiCheck" size="16" color="success" aria-hidden="true" /> {{ sentence(f.title) }}</li>
    </ul>
  </div>
</template>

<style scoped>
.checks { display: grid; gap: 8px; }
.notes { list-style: none; padding: 0; margin: 4px 0 0; display: grid; gap: 6px; font-size: 0.875rem; }
.notes li { display: flex; gap: 8px; }
.fine { list-style: none; padding: 0; margin: 4px 0 0; display: flex; flex-wrap: wrap; gap: 4px 16px; font-size: 0.875rem; }
</style>
