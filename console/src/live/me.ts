import { defineStore } from 'pinia'
import { computed, ref } from 'vue'

import { at } from '../api/base'
import { answered, api, type Schemas } from '../api/client'
import { useHost } from './host'

/** Who uses this browser, what they may do, and who asks them to be let in. */
export const useMe = defineStore('me', () => {
  const host = useHost()
  const me = ref<Schemas['Me']>()
  const asking = ref<Schemas['Pairing'][]>([])
  const may = (scope: string) => me.value?.scopes.includes(scope) ?? false
  const keeps = computed(() => may('keep'))

  const load = () => host.attempt(async () => { me.value = await answered(api.GET('/v1/me')) })

  /** Looks whether somebody asks; that it fails once in a while is nobody's business. */
  async function look() {
    if (!keeps.value || document.hidden) return
    const { data } = await api.GET('/v1/pairings').catch(() => ({ data: undefined }))
    if (data) asking.value = data.pairings
  }

  const answer = (letters: string, allow: boolean) => host.attempt(async () => {
    await answered(api.POST('/v1/pairings', { body: { letters, allow } }))
  }).finally(look)

  async function signOut() {
    await fetch(at('/sign-out'), { method: 'POST' })
    location.assign(at('/sign-in'))
  }

  return { me, asking, may, keeps, load, look, answer, signOut }
})
