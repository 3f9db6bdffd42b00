import { onBeforeUnmount, onMounted } from 'vue'

/** Calls act every so many milliseconds while the component is on the page. */
export function useIntervalFn(act: () => void, milliseconds: number) {
  let timer = 0
  onMounted(() => { timer = window.setInterval(act, milliseconds) })
  onBeforeUnmount(() => window.clearInterval(timer))
}
