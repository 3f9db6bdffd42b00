import { onMounted, ref } from 'vue'

import { answered, api, type Schemas } from '../../api/client'
import { useIntervalFn } from '../../live/interval'

/** The serial ports of the host's computer, as they come and go; undefined until they are known. */
export function usePorts() {
  const ports = ref<Schemas['Port'][]>()
  const look = () => answered(api.GET('/v1/bench/ports')).then(found => { ports.value = found.ports }, () => undefined)
  onMounted(look)
  useIntervalFn(look, 5000)
  return ports
}

/** What is known of a port besides its path. */
export const about = (p: Schemas['Port']) => [p.maker, p.product, p.serial, p.used_by && `used by ${p.used_by}`].filter(Boolean).join(' · ')
