<script setup lang="ts">
import { mdiAlert, mdiPlay } from '@mdi/js'
import { computed, ref, useId, watch } from 'vue'

import { answered, api, inWords, type Problem, type Schemas } from '../../api/client'
import { useHost } from '../../live/host'
import Notice from '../../ui/Notice.vue'
import NumberField from '../../ui/NumberField.vue'
import { sentence } from '../../words/numbers'

const open = defineModel<boolean>({ required: true })
const host = useHost()
const plan = ref<Schemas['Plan']>()
const problem = ref('')
const layer = ref<number>()
const height = ref<number>()
const sure = ref(false)
let asked = 0

const id = useId()
const chosen = computed(() => ({ layer: layer.value ?? 0, height: height.value ?? 0 }))

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
    height.value ??= Math.round(found.height * 100) / 100
  } catch (p) {
    if (mine === asked) problem.value = inWords(p as Problem)
  }
}

watch(open, now => {
  if (!now) return
  plan.value = undefined
  layer.value = height.value = undefined
  sure.value = false
  look()
}, { immediate: true }) // it is loaded when it is opened first
watch([layer, height], () => { if (open.value) look() })

async function pickUp() {
  if (!plan.value) return
  const { command, height, run } = plan.value
  open.value = false
  await host.pickUp(run.id, { command, height })
}
</script>

<template>
  <v-dialog v-model="open" max-width="640" scrollable :aria-labelledby="id">
    <v-card data-plan>
      <h2 :id="id" class="text-title-large px-5 pt-5">Pick this run up</h2>
      <v-card-text class="px-5" tabindex="0">
        <p class="mb-4 break">{{ host.run?.file }}: the printer has forgotten where it was. Nothing moves before you say so.</p>
        <div class="d-flex flex-wrap ga-4 mb-3">
          <NumberField v-model="layer" label="Go on at layer" whole :least="1" :placeholder="plan ? `in ${plan.layer}, where it ended` : ''" persistent-placeholder :unit="plan ? `of ${plan.layers}` : ''" style="min-width: 200px" data-layer />
          <NumberField v-model="height" label="The nozzle is now at" unit="mm" style="min-width: 160px" data-height />
        </div>
        <Notice v-if="problem" color="error" :icon="mdiAlert" class="mb-4"><span role="alert">{{ sentence(problem) }}</span></Notice>
        <template v-else-if="plan">
          <Notice color="warning" :icon="mdiAlert" class="mb-4">
            Z cannot be homed, the part is in the way. Look: is the tip of the nozzle {{ plan.height.toFixed(2) }} mm above the bed? If not, correct it above.
          </Notice>
          <ol class="ps-5 mb-4">
            <li v-for="(s, i) in plan.steps" :key="i" class="mb-2">
              {{ sentence(s.why) }}
              <div class="mono text-medium-emphasis break">{{ s.commands.join(' · ') }}</div>
            </li>
            <li>Go on with the file behind line {{ plan.command }}, at Z {{ plan.z.toFixed(2) }} mm</li>
          </ol>
          <v-checkbox v-model="sure" density="compact" hide-details label="The part still holds to the bed, and the height is right" data-sure />
        </template>
        <v-progress-linear v-else indeterminate aria-label="Making the plan" />
      </v-card-text>
      <v-card-actions class="px-4 pb-4">
        <v-spacer />
        <v-btn variant="text" @click="open = false">Not now</v-btn>
        <v-btn variant="flat" color="primary" :prepend-icon="mdiPlay" :disabled="!plan || problem !== '' || !sure || !host.live" @click="pickUp">Pick up</v-btn>
      </v-card-actions>
    </v-card>
  </v-dialog>
</template>
