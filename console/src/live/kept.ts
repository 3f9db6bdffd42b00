import { type Ref, shallowRef, watch } from 'vue'

/** A value that this browser remembers: how a page was left. What does not go any more is as usual. */
export function useKept<T>(name: string, usual: T, goes: (value: T) => boolean = () => true): Ref<T> {
  const place = `diathermon.${name}`
  let start = usual
  try {
    const kept = localStorage.getItem(place)
    const value: unknown = kept === null ? undefined : JSON.parse(kept)
    if (value !== undefined && typeof value === typeof usual && Array.isArray(value) === Array.isArray(usual) && goes(value as T)) start = value as T
  } catch { /* what cannot be read is as usual */ }
  const value = shallowRef(start)
  watch(value, v => { try { localStorage.setItem(place, JSON.stringify(v)) } catch { /* nothing is kept where nothing may be */ } })
  return value
}
