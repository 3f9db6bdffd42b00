import { defineStore } from 'pinia'
import { computed, ref, shallowRef } from 'vue'

import { answered, api, type Schemas } from '../api/client'
import { useKept } from './kept'
import { play } from './sound'

export type Told = Schemas['Notice']

/** Those that a page shows in another way already. */
const elsewhere = ['alarm', 'asked', 'warm']
const most = 3

/** What persons are told: as it comes, and what came while nobody looked. */
export const useNotices = defineStore('notices', () => {
  const last = useKept('noticed', '') // the id of the newest that was shown here
  const sound = useKept<'none' | 'urgent' | 'all'>('sound', 'urgent', to => ['none', 'urgent', 'all'].includes(to))
  const all = shallowRef<Told[]>([]) // the newest first
  const shown = ref<Told[]>([])

  function show(n: Told) {
    if (!elsewhere.includes(n.kind) && !n.quiet) shown.value = [n, ...shown.value.filter(o => o.id !== n.id)].slice(0, most)
  }

  /** Takes one that comes now. */
  function note(n: Told) {
    if (all.value.some(o => o.id === n.id)) return
    all.value = [n, ...all.value].slice(0, 100)
    last.value = n.id
    show(n)
    if (!n.quiet && (sound.value === 'all' || sound.value === 'urgent' && n.urgent)) play(n.urgent ? 'urgent' : n.kind === 'done' ? 'done' : 'other')
  }

  /** Looks what came while nobody looked; a browser that is here for the first time has missed nothing. */
  async function load() {
    const { notices } = await answered(api.GET('/v1/notices'))
    all.value = notices
    if (last.value) for (const n of notices.filter(n => n.id > last.value && Date.now() - Date.parse(n.at) < 86_400_000).slice(0, most).reverse()) show(n)
    last.value = notices[0]?.id ?? (last.value || ' ')
  }

  const dismiss = (id: string) => { shown.value = shown.value.filter(n => n.id !== id) }
  const newest = computed(() => all.value.slice(0, 12))
  return { all, newest, shown, sound, note, load, dismiss }
})
