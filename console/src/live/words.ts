/** A time in seconds in words: "45 s", "12 min", "3 h 05 min". */
export function span(seconds: number): string {
  const s = Math.round(seconds)
  if (s < 60) return `${s} s`
  const minutes = Math.round(s / 60)
  if (minutes < 60) return `${minutes} min`
  return `${Math.floor(minutes / 60)} h ${String(minutes % 60).padStart(2, '0')} min`
}

/** A short time in seconds to the second: "40 s", "2 min 40 s", "1 h 05 min". */
export function countdown(seconds: number): string {
  const s = Math.round(seconds)
  return s < 60 || s >= 3600 ? span(s) : `${Math.floor(s / 60)} min ${String(s % 60).padStart(2, '0')} s`
}

/** A size in bytes in words. */
export function size(bytes: number): string {
  if (bytes < 1000) return `${bytes} B`
  if (bytes < 1e6) return `${(bytes / 1e3).toFixed(0)} kB`
  return `${(bytes / 1e6).toFixed(1)} MB`
}

/** What a heater is called on a page. */
export function heaterName(heater: string, tools: number): string {
  if (heater === 'bed') return 'Bed'
  if (heater === 'chamber') return 'Chamber'
  return tools > 1 ? `Nozzle ${Number(heater.slice(6)) + 1}` : 'Nozzle'
}

/** The theme's colour of a heater. */
export function heaterColour(heater: string): string {
  return heater === 'bed' || heater === 'chamber' ? heater : 'nozzle'
}
