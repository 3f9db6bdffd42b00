import { defineStore } from 'pinia'
import { computed, ref } from 'vue'

import { at } from '../api/base'
import { answered, api, type Schemas } from '../api/client'
import { useHost } from './host'
import { useKept } from './kept'

/** Whether this browser is called while the console is closed, and how that is arranged. */
export const useCalls = defineStore('calls', () => {
  const host = useHost()
  const browsers = ref<Schemas['CalledBrowser'][]>([])
  const key = ref('')
  const mine = useKept('called', '') // the id that this browser has
  const asked = useKept('call-asked', false) // whether a person has said no to the offer
  const permission = ref(typeof Notification === 'undefined' ? 'denied' : Notification.permission)

  /** Why this browser cannot be called; empty: it can. */
  const why = computed(() => {
    if (!window.isSecureContext) return 'Browsers allow this over https alone, or on the host\'s own computer: set web.own_certificate in diathermon.toml.'
    if (!('serviceWorker' in navigator) || !('PushManager' in window) || typeof Notification === 'undefined') return 'This browser cannot do it. On a phone with iOS, put the console on the home screen first.'
    return permission.value === 'denied' ? 'This browser was told not to show notices of this host; change that in its settings of this page.' : ''
  })
  const called = computed(() => browsers.value.some(b => b.id === mine.value))

  async function load() {
    const now = await answered(api.GET('/v1/notices/browsers'))
    browsers.value = now.browsers
    key.value = now.key
  }

  /** Asks the browser for permission and its push service for an address, and lets the host call there. */
  const call = (name: string) => host.attempt(async () => {
    permission.value = await Notification.requestPermission()
    if (permission.value !== 'granted') throw { status: 0, title: 'the browser was not allowed to show notices' }
    if (!key.value) await load()
    const worker = await navigator.serviceWorker.register(at('/sw.js'), { scope: at('/') })
    await navigator.serviceWorker.ready
    let there
    try {
      there = await worker.pushManager.getSubscription()
      if (there && !sameKey(there.options.applicationServerKey, key.value)) { // of a host that was here before
        await there.unsubscribe()
        there = null
      }
      there ??= await worker.pushManager.subscribe({ userVisibleOnly: true, applicationServerKey: key.value })
    } catch (e) {
      throw { status: 0, title: 'the browser\'s push service is not reached', detail: `is this device on the internet? (${String(e)})` }
    }
    const { endpoint, keys } = there.toJSON()
    mine.value = (await answered(api.POST('/v1/notices/browsers', { body: { name, endpoint: endpoint!, key: keys!['p256dh']!, secret: keys!['auth']! } }))).id
    await load()
  })

  const leave = (id: string) => host.attempt(async () => {
    await answered(api.DELETE('/v1/notices/browsers/{id}', { params: { path: { id } } }))
    if (id === mine.value) {
      mine.value = ''
      await (await (await navigator.serviceWorker?.getRegistration(at('/')))?.pushManager.getSubscription())?.unsubscribe()
    }
    await load()
  })

  const attempt = (id: string) => host.attempt(() => answered(api.POST('/v1/notices/browsers/{id}/trial', { params: { path: { id } } })))

  return { browsers, mine, asked, why, called, load, call, leave, attempt }
})

function sameKey(buffer: ArrayBuffer | null, key: string): boolean {
  const text = buffer ? btoa(String.fromCharCode(...new Uint8Array(buffer))).replaceAll('+', '-').replaceAll('/', '_').replace(/=+$/, '') : ''
  return text === key
}
