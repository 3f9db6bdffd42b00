import { areas } from './areas'

/** Something that was found, and where it is. */
export interface Found { kind: string, title: string, about: string, to: string }

/** What can be set, and where: the words under which somebody would look for it. */
export const settings: { title: string, about: string, to: string }[] = [
  { title: 'Accounts', about: 'Persons, roles, passwords, passkeys', to: '/setup' },
  { title: 'Tokens', about: 'Programs that have a key, slicers, withdraw', to: '/setup' },
  { title: 'Connect a program', about: 'Slicer, address, folder, upload', to: '/setup' },
  { title: 'Open on a phone', about: 'Code for the camera, pairing, address', to: '/setup' },
  { title: 'Certificate', about: 'TLS, https, fingerprint', to: '/setup' },
  { title: 'Warm-ups', about: 'Sets of setpoints, preheat, soak', to: '/heat' },
  { title: 'Guards', about: 'What watches a heater and what it may do', to: '/heat' },
  { title: 'PID tuning', about: 'Tune a heater, constants', to: '/heat' },
  { title: 'Outputs', about: 'Fans, lights, pins', to: '/motion' },
  { title: 'Endstops', about: 'Switches, M119', to: '/motion' },
  { title: 'What the printer can hold', about: 'Buffer, measure, window', to: '/wire' },
]

/** The keys that mean something on every page. */
export const keys: { key: string, title: string, to?: string }[] = [
  ...areas.map(({ title, to }, i) => ({ key: `${i + 1}`, title, to })),
  { key: '/', title: 'Find anything' }, { key: '?', title: 'These keys' },
]
