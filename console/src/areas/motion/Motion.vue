<script setup lang="ts">
import { mdiArrowDown, mdiArrowLeft, mdiArrowRight, mdiArrowUp, mdiChevronDoubleDown, mdiChevronDoubleUp, mdiHome, mdiKeyboardOutline, mdiLockOutline, mdiMinus, mdiPlus } from '@mdi/js'
import { computed, onBeforeUnmount, onMounted, ref } from 'vue'

import { answered, api, type Schemas } from '../../api/client'
import { useHost } from '../../live/host'
import { useKept } from '../../live/kept'
import Ask from '../../ui/Ask.vue'
import Figure from '../../ui/Figure.vue'
import Notice from '../../ui/Notice.vue'
import Page from '../../ui/Page.vue'
import Panel from '../../ui/Panel.vue'
import Temperature from '../../ui/Temperature.vue'
import { heaterName } from '../../words/heaters'
import { sentence } from '../../words/numbers'
import Bed from './Bed.vue'
import Routines from '../routines/Buttons.vue'
import { type Axes, useHand } from './hand'
import Outputs from './Outputs.vue'

/** Moving the head and the filament by hand. */
const host = useHost()
const { press, hold, letGo } = useHand()
const steps = [0.1, 1, 10, 50]
const speeds = [{ value: 0, title: 'Usual' }, { value: 10, title: '10 mm/s' }, { value: 50, title: '50 mm/s' }]
const lengths = [5, 20, 50]
const step = useKept('motion.step', 10)
const speed = useKept('motion.speed', 0)
const length = useKept('motion.length', 20)
const busy = ref('')
const letting = ref(false)
const endstops = ref<Schemas['Endstop'][]>()

const free = computed(() => host.connected && host.motion?.free === true)
const homed = computed(() => host.motion?.homed ?? '')
const axes = computed(() => (['x', 'y', 'z'] as const).map(a => ({ name: a.toUpperCase(), known: host.position?.known && homed.value.includes(a.toUpperCase()), at: host.position?.[a] ?? 0 })))

// Filament.
const melting = 170 // °C from which filament may be moved
const toHeat = 200 // °C that one touch gives
const nozzle = computed(() => host.heaters.find(h => h.heater.startsWith('nozzle')))
const melts = computed(() => (nozzle.value?.actual ?? 0) >= melting)

const by = (along: Axes): Schemas['Press'] => ({ by: along, speed: speed.value || undefined })
async function act(what: string, call: () => Promise<Schemas['Motion']>) {
  busy.value = what
  await host.attempt(async () => { host.motion = await call() })
  busy.value = ''
}
const home = (which: string) => act(`home ${which}`, () => answered(api.POST('/v1/motion/home', { body: { axes: which } })))
const park = () => act('park', () => answered(api.POST('/v1/motion/park')))
const motorsOff = () => act('motors', () => answered(api.POST('/v1/motion/motors-off')))
const ask = () => host.attempt(async () => { endstops.value = (await answered(api.GET('/v1/motion/endstops'))).endstops })

// The keyboard moves only while it is armed, and nothing of it is left when the page is.
const armed = ref(false)
const keys = computed<Record<string, Axes>>(() => ({
  ArrowLeft: { x: -step.value }, ArrowRight: { x: step.value }, ArrowDown: { y: -step.value }, ArrowUp: { y: step.value },
  PageUp: { z: step.value }, PageDown: { z: -step.value },
}))
function key(e: KeyboardEvent) {
  if (!armed.value || e.ctrlKey || e.altKey || e.metaKey) return
  if (e.key === 'Escape') disarm()
  const along = keys.value[e.key]
  if (!along) return
  e.preventDefault()
  if (!e.repeat && free.value) hold(by(along))
}
function disarm() {
  armed.value = false
  letGo()
}
onMounted(() => {
  window.addEventListener('keydown', key)
  window.addEventListener('keyup', letGo)
  window.addEventListener('blur', disarm)
  document.addEventListener('visibilitychange', disarm)
})
onBeforeUnmount(() => {
  window.removeEventListener('keydown', key)
  window.removeEventListener('keyup', letGo)
  window.removeEventListener('blur', disarm)
  document.removeEventListener('visibilitychange', disarm)
})

const pad = computed(() => [
  { at: 'up', icon: mdiArrowUp, words: 'Back, Y', along: { y: step.value } }, { at: 'left', icon: mdiArrowLeft, words: 'Left, X', along: { x: -step.value } },
  { at: 'right', icon: mdiArrowRight, words: 'Right, X', along: { x: step.value } }, { at: 'down', icon: mdiArrowDown, words: 'Forward, Y', along: { y: -step.value } },
  { at: 'higher', icon: mdiChevronDoubleUp, words: 'Up, Z', along: { z: step.value } }, { at: 'lower', icon: mdiChevronDoubleDown, words: 'Down, Z', along: { z: -step.value } },
])
</script>

<template>
  <Page title="Motion" :loading="!host.motion">
    <Notice v-if="!free" color="info" :icon="mdiLockOutline" data-out-of-reach>{{ host.motion?.why ? `Not to be moved by hand: ${host.motion.why}.` : 'The host is not reached.' }}</Notice>
    <div class="columns">
      <div class="stack">
        <Panel title="Where the head is">
          <template #beside><span v-if="host.motion?.going" class="text-primary" role="status">moving</span></template>
          <dl class="places mb-4" data-place>
            <Figure v-for="a in axes" :key="a.name" :name="a.known ? a.name : `${a.name}, not homed`" class="text-headline-small"><span :class="{ 'text-medium-emphasis': !a.known }">{{ a.known ? `${a.at.toFixed(2)} mm` : 'not known' }}</span></Figure>
          </dl>
          <Bed :free="free" @to="press({ to: $event, speed: speed || undefined })" />
        </Panel>
        <Outputs />
      </div>
      <div class="stack">
        <Panel title="Move">
          <template #beside><v-btn :variant="armed ? 'flat' : 'text'" :color="armed ? 'primary' : undefined" :prepend-icon="mdiKeyboardOutline" :disabled="!free" :aria-pressed="armed" data-arm @click="armed = !armed">{{ armed ? 'Keys move it' : 'Use keys' }}</v-btn></template>
          <div class="stack">
            <div class="pad" @contextmenu.prevent>
              <v-btn
                v-for="p in pad" :key="p.at" :class="p.at" :icon="p.icon" variant="tonal" size="48" :disabled="!free" :aria-label="`${p.words}, ${step} mm`" :title="`${p.words}, ${step} mm`" :data-press="p.at"
                @pointerdown.prevent="hold(by(p.along))" @pointerup="letGo" @pointerleave="letGo" @pointercancel="letGo" @keydown.enter.prevent="!$event.repeat && hold(by(p.along))" @keydown.space.prevent="!$event.repeat && hold(by(p.along))"
              />
              <span class="middle figures">{{ step }} mm</span>
            </div>
            <div class="row">
              <v-btn-toggle v-model="step" mandatory divided variant="outlined" density="comfortable" aria-label="How far, mm"><v-btn v-for="s in steps" :key="s" :value="s" class="far">{{ s }}</v-btn></v-btn-toggle>
              <v-select v-model="speed" class="speed" label="Speed" :items="speeds" hide-details />
            </div>
            <p v-if="armed" class="mb-0 text-body-small">Arrows move X and Y, page up and down Z. Escape ends that, as does leaving.</p>
          </div>
        </Panel>
        <Panel title="Home and rest">
          <div class="row">
            <v-btn variant="flat" color="primary" :prepend-icon="mdiHome" :disabled="!free" :loading="busy === 'home '" data-home @click="home('')">Home all</v-btn>
            <v-btn v-for="a in ['X', 'Y', 'Z']" :key="a" variant="tonal" :disabled="!free" :loading="busy === `home ${a}`" :aria-label="`Home ${a}`" @click="home(a)">{{ a }}</v-btn>
            <v-btn variant="tonal" :disabled="!free || homed !== 'XYZ'" :loading="busy === 'park'" data-park @click="park">Park</v-btn>
            <v-btn variant="text" :disabled="!free" :loading="busy === 'motors'" @click="letting = true">Motors off</v-btn>
          </div>
          <Ask v-model="letting" title="Turn the motors off?" yes="Turn them off" no="Leave them on" @yes="motorsOff">The axes can be pushed by hand then, and it is not known where the head is until it is homed.</Ask>
        </Panel>
        <Panel title="Filament">
          <template #beside><span v-if="nozzle" class="figures">{{ heaterName(nozzle.heater, host.printer?.tools) }} <Temperature :celsius="nozzle.actual" /></span></template>
          <div class="stack">
            <div class="row">
              <v-btn-toggle v-model="length" mandatory divided variant="outlined" density="comfortable" aria-label="How much filament, mm"><v-btn v-for="l in lengths" :key="l" :value="l">{{ l }} mm</v-btn></v-btn-toggle>
              <v-btn variant="tonal" :prepend-icon="mdiPlus" :disabled="!free || !melts" data-extrude @click="press({ by: { e: length }, speed: 3 })">Push</v-btn>
              <v-btn variant="tonal" :prepend-icon="mdiMinus" :disabled="!free || !melts" @click="press({ by: { e: -length } })">Pull back</v-btn>
            </div>
            <div v-if="!melts" class="row" data-cold>
              <p class="mb-0">Filament moves from {{ melting }} °C on{{ nozzle && nozzle.setpoint >= melting ? `; the nozzle is on its way to ${nozzle.setpoint} °C.` : '.' }}</p>
              <v-btn v-if="nozzle && nozzle.setpoint < melting" variant="flat" color="primary" :disabled="!host.live" @click="host.setHeat(nozzle.heater, Math.min(toHeat, nozzle.limit))">Heat to {{ Math.min(toHeat, nozzle.limit) }} °C</v-btn>
            </div>
          </div>
        </Panel>
        <Routines place="motion" />
        <Panel title="Endstops">
          <template #beside><v-btn variant="text" :disabled="!host.live" data-endstops @click="ask">Ask the printer</v-btn></template>
          <p v-if="!endstops" class="mb-0 text-medium-emphasis">What the printer's switches say.</p>
          <p v-else-if="!endstops.length" class="mb-0">The printer tells of none.</p>
          <dl v-else class="places"><Figure v-for="e in endstops" :key="e.name" :name="e.name"><strong :class="{ 'text-primary': e.triggered }">{{ sentence(e.triggered ? 'triggered' : 'open') }}</strong></Figure></dl>
        </Panel>
      </div>
    </div>
  </Page>
</template>

<style scoped>
.places { display: flex; flex-wrap: wrap; gap: 8px 28px; }
.pad { display: grid; grid-template: '. up . higher' 48px 'left middle right .' 48px '. down . lower' 48px / 48px 72px 48px 56px; gap: 6px; justify-content: center; align-items: center; user-select: none; touch-action: manipulation; }
.far { min-width: 48px; padding: 0 12px; }
.speed { flex: 1 1 120px; min-width: 120px; }
.up { grid-area: up; justify-self: center; }
.left { grid-area: left; }
.right { grid-area: right; }
.down { grid-area: down; justify-self: center; }
.higher { grid-area: higher; margin-left: 16px; }
.lower { grid-area: lower; margin-left: 16px; }
.middle { grid-area: middle; text-align: center; font-weight: 600; }
</style>
