<script setup lang="ts">
import { mdiAlert, mdiPlay } from '@mdi/js'
import { computed, ref, watch } from 'vue'

import { answered, api, inWords, type Problem, type Schemas } from '../api/client'
import { useHost } from '../live/host'

const open = defineModel<boolean>({ required: true })
const host = useHost()
const plan = ref<Schemas['Plan']>()
const problem = ref('')
const layer = ref('')
const height = ref('')
const sure = ref(false)
let asked = 0

const number = (text: string) => Number(text.replace(',', '.'))
const chosen = computed(() => ({ layer: number(layer.value) || 0, height: number(height.value) || 0 }))

/** Asks for the plan as it is chosen; only the newest answer counts. */
async function look() {
  const id = host.run?.id
  if (!id) return
  const mine = ++asked
  try {
    const found = await answered(api.GET('/v1/runs/{id}/pick-up', { params: { path: { id }, query: chosen.value } }))
    if (mine !== asked) return
    plan.value = found
    problem.value = ''
    height.value ||= String(Math.round(found.height * 100) / 100)
  } catch (p) {
    if (mine === asked) problem.value = inWords(p as Problem)
  }
}

watch(open, now => {
  if (!now) return
  plan.value = undefined
  layer.value = height.value = ''
  sure.value = false
  look()
})
watch([layer, height], () => { if (open.value) look() })

async function pickUp() {
  if (!plan.value) return
  const { command, height, run } = plan.value
  open.value = false
  await host.pickUp(run.id, { command, height })
}
</script>

<template>
  <v-dialog v-model="open" max-width="640" scrollable>
    <v-card title="Pick this run up" data-plan>
      <v-card-text>
        <p class="mb-4 break">{{ host.run?.file }}: the printer has forgotten where it was. Nothing moves before you say so.</p>
        <div class="d-flex flex-wrap ga-4 mb-2">
          <v-text-field v-model="layer" label="Go on at layer" inputmode="numeric" :placeholder="plan ? `in ${plan.layer}, where it ended` : ''" persistent-placeholder :suffix="plan ? `of ${plan.layers}` : ''" style="min-width: 200px" data-layer />
          <v-text-field v-model="height" label="The nozzle is now at" inputmode="decimal" suffix="mm" style="min-width: 160px" data-height />
        </div>
        <v-alert v-if="problem" type="error" variant="tonal" class="mb-4 break">{{ problem }}</v-alert>
        <template v-else-if="plan">
          <v-alert type="warning" variant="tonal" :icon="mdiAlert" class="mb-4">
            Z cannot be homed, the part is in the way. Look: is the tip of the nozzle {{ plan.height.toFixed(2) }} mm above the bed? If not, correct it above.
          </v-alert>
          <ol class="ps-5 mb-4">
            <li v-for="(s, i) in plan.steps" :key="i" class="mb-2">
              {{ s.why }}
              <div class="mono text-body-small text-medium-emphasis break">{{ s.commands.join(' · ') }}</div>
            </li>
            <li>go on with the file behind line {{ plan.command }}, at Z {{ plan.z.toFixed(2) }} mm</li>
          </ol>
          <v-checkbox v-model="sure" density="compact" hide-details label="The part still holds to the bed, and the height is right" data-sure />
        </template>
        <v-progress-linear v-else indeterminate />
      </v-card-text>
      <v-card-actions>
        <v-btn variant="text" @click="open = false">Not now</v-btn>
        <v-btn variant="flat" color="primary" :prepend-icon="mdiPlay" :disabled="!plan || problem !== '' || !sure || !host.live" @click="pickUp">Pick up</v-btn>
      </v-card-actions>
    </v-card>
  </v-dialog>
</template>
