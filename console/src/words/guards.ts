import type { Schemas } from '../api/client'

/** What each guard claims, in words. */
export const guardClaims: Record<Schemas['Guard']['guard'], string> = {
  'too-hot': 'Above the printer\'s limit',
  'sensor': 'The sensor\'s wire is open or shorted',
  'no-rise': 'Full duty for long without any rise',
  'slow-rise': 'Rises far more slowly than it ever has',
  'falling': 'Falls away while it should hold',
  'runaway': 'Heat comes that nobody asked for',
  'jump': 'Changes as it never has',
  'frozen': 'Reads the same whatever it does',
  'growing-need': 'Needs more and more duty to hold',
  'silence': 'Is on and not reported',
  'unused': 'Is on and nobody uses it',
  'no-flow': 'No filament takes heat away',
}

/** What a guard does by itself. */
export const guardActions: Record<Schemas['Guard']['may'], string> = {
  tell: 'only tells',
  hold: 'holds the run',
  cool: 'turns the heaters off',
  halt: 'cools, then halts',
}

/** Why a guard may do what it may. */
export function guardReason(g: Schemas['Guard']): string {
  const hours = (h: number) => `${Math.max(Math.round(h), 1)} h`
  if (g.set) return 'as flow in [heat] is set'
  if (g.certain) return 'it cannot be anything else'
  if (g.bound) return 'as a keeper has said'
  const next = g.next ? `; ${guardActions[g.next]} after ${hours(g.next_hours ?? 0)} more` : ''
  return g.may === 'tell' ? `on trial${next}` : `earned in ${hours(g.quiet_hours)}${next}`
}

/** What persons have said of a guard's alarms. */
export function guardTold(g: Schemas['Guard']): string {
  const said = [g.sound && `${g.sound} nothing`, g.faults && `${g.faults} a fault`]
  return said.filter(Boolean).join(', ') || '–'
}

/** What a person has said of an alarm. */
export function alarmSaid(a: Schemas['Alarm']): string {
  return a.said ? `${a.said}${a.by ? ` (${a.by})` : ''}` : 'it waits for you'
}
