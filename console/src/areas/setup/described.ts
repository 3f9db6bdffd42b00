import { onMounted, ref, watch } from 'vue'

import { answered, api, type Schemas } from '../../api/client'
import { useHost } from '../../live/host'
import { changed, type Description } from './describe'

/** How the printer is described, a draft of what is to be said of it, and how that is kept and taken up. */
export function useDescribed() {
  const host = useHost()
  const described = ref<Schemas['Described']>()
  const draft = ref<Description>({})
  const away = ref(false) // the host begins anew

  function take(now: Schemas['Described']) {
    const mine = described.value ? changed(draft.value, described.value.printer) : {}
    described.value = now
    draft.value = { ...now.printer, ...mine }
  }
  const load = () => host.attempt(async () => take(await answered(api.GET('/v1/printer'))))
  onMounted(load)

  /** Keeps what is said, and how far one was led. */
  const say = (guide?: Schemas['Guide']) => host.attempt(async () => {
    take(await answered(api.PATCH('/v1/printer', { body: { ...changed(draft.value, described.value!.printer), guide } })))
  })

  /** Lets the host begin anew with what was said, if there is something. */
  const takeUp = () => host.attempt(async () => {
    if (!described.value?.waits) return
    await answered(api.POST('/v1/printer/take-up'))
    away.value = true
  })

  let gone = false
  watch(() => host.connected, there => { // it goes away, and comes back
    if (!there) gone = true
    else if (gone) {
      gone = away.value = false
      load()
    }
  })

  return { described, draft, away, load, say, takeUp }
}
