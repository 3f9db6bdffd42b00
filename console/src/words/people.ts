import { listed } from './numbers'

const scopes: Record<string, string> = {
  read: 'see everything', send: 'put files on the shelf', start: 'start prints', operate: 'hold, stop and heat', keep: 'change settings and let others in',
}

/** What scopes allow, in words. */
export const scopesInWords = (of: string[]) => of.length === Object.keys(scopes).length ? 'do everything' : listed(of.map(s => scopes[s] ?? s))

/** What each role is for. */
export const roles = [
  { value: 'watcher', title: 'Watcher', about: 'sees everything, and may halt' },
  { value: 'operator', title: 'Operator', about: 'sends, prints, heats' },
  { value: 'keeper', title: 'Keeper', about: 'keeps the host: files, settings, accounts' },
] as const
