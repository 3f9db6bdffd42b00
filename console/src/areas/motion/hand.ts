import { onBeforeUnmount } from 'vue'

import { answered, api, type Problem, type Schemas } from '../../api/client'
import { useHost } from '../../live/host'

export type Axes = Schemas['Axes']

const heldAfter = 400 // ms until a press is one that is held
const again = 60 // ms between looks whether the step before has ended

/** Moves the head: at once for every press, and step by step for as long as one is held. */
export function useHand() {
  const host = useHost()
  let held = 0 // the timer of what is held
  let stepped = false // and it has been pressed again

  async function press(body: Schemas['Press']) {
    try {
      host.motion = await answered(api.POST('/v1/motion/presses', { body }))
    } catch (p) {
      host.tell(p as Problem)
      letGo()
    }
  }

  /** Presses, and goes on step by step until it is let go: the next when the one before has ended. */
  function hold(body: Schemas['Press']) {
    letGo()
    void press(body)
    let waiting = false
    const step = async () => {
      if (!waiting && host.motion && !host.motion.going) {
        waiting = stepped = true
        await press(body)
        waiting = false
      }
      if (held) held = window.setTimeout(step, again)
    }
    held = window.setTimeout(step, heldAfter)
  }

  /** Lets go: what was pressed one by one is carried out, what was held stops when its step ends. */
  function letGo() {
    window.clearTimeout(held)
    held = 0
    if (stepped) void host.attempt(() => answered(api.DELETE('/v1/motion/presses')))
    stepped = false
  }
  onBeforeUnmount(letGo)

  return { press, hold, letGo }
}
