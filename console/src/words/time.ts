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

type When = string | number | Date

function asDate(at: When): Date | undefined {
  const date = at instanceof Date ? at : new Date(at)
  return Number.isNaN(date.getTime()) ? undefined : date
}

function told(at: When, form: Intl.DateTimeFormatOptions): string {
  return asDate(at)?.toLocaleString([], { hourCycle: 'h23', ...form }) ?? '–'
}

/** The time of the day; with the seconds if wanted. */
export const clock = (at: When, seconds = false) => told(at, { hour: '2-digit', minute: '2-digit', second: seconds ? '2-digit' : undefined })

/** The day without its year. */
export const day = (at: When) => told(at, { day: 'numeric', month: 'short' })

/** The day with its year. */
export const date = (at: When) => told(at, { day: 'numeric', month: 'short', year: '2-digit' })

/** Day and time, to the second. */
export const moment = (at: When) => told(at, { day: 'numeric', month: 'short', hour: '2-digit', minute: '2-digit', second: '2-digit' })

/** The time of the day, with the day if it is another than today. */
export function soon(at: When): string {
  const then = asDate(at)
  return then && then.toDateString() !== new Date().toDateString() ? `${clock(then)}, ${day(then)}` : clock(at)
}
