import {
  mdiAlert, mdiAlertCircle, mdiAlertOctagon, mdiBellAlert, mdiCheckCircle, mdiClockOutline, mdiFire, mdiHelpCircleOutline, mdiInformation, mdiLanDisconnect, mdiPause,
  mdiPlay, mdiPowerStandby, mdiProgressClock, mdiStop, mdiSync, mdiThermometerChevronDown, mdiThermometerChevronUp, mdiThermometerCheck, mdiTimerSand,
} from '@mdi/js'

import type { Schemas } from '../api/client'

/** How a state is shown: its word, the theme's colour, and an icon beside it, so that colour is never the only sign. */
export interface Shown { word: string, color: string, icon: string }

type Table<S extends string> = Record<S, Shown>
const shown = (word: string, color: string, icon: string): Shown => ({ word, color, icon })

/** The serial connection. */
export const linkStates: Table<Schemas['Link']['state'] | 'away'> = {
  absent: shown('absent', 'error', mdiLanDisconnect),
  opening: shown('opening', 'warning', mdiProgressClock),
  greeting: shown('greeting', 'warning', mdiProgressClock),
  live: shown('live', 'success', mdiCheckCircle),
  silent: shown('silent', 'error', mdiAlertCircle),
  dead: shown('dead', 'error', mdiAlertOctagon),
  away: shown('no host', 'error', mdiLanDisconnect),
}

/** A run. */
export const runStates: Table<Schemas['Run']['state']> = {
  waiting: shown('waiting', 'primary', mdiClockOutline),
  warming: shown('warming', 'primary', mdiFire),
  running: shown('running', 'primary', mdiPlay),
  held: shown('held', 'warning', mdiPause),
  ending: shown('ending', 'primary', mdiSync),
  interrupted: shown('interrupted', 'error', mdiAlertCircle),
  finished: shown('finished', 'success', mdiCheckCircle),
  stopped: shown('stopped', 'secondary', mdiStop),
  broken: shown('broken', 'error', mdiAlertOctagon),
}

/** A routine that is performed. */
export const performances: Table<Schemas['Performance']['state']> = {
  none: shown('none', 'secondary', mdiStop),
  going: shown('going on', 'primary', mdiPlay),
  waiting: shown('waiting', 'primary', mdiTimerSand),
  asking: shown('asking', 'warning', mdiHelpCircleOutline),
  leaving: shown('being made safe', 'primary', mdiSync),
  finished: shown('finished', 'success', mdiCheckCircle),
  stopped: shown('stopped', 'secondary', mdiStop),
  broken: shown('broken', 'error', mdiAlertOctagon),
}

/** A heater. */
export const heaterStates: Table<Schemas['Heater']['state']> = {
  off: shown('off', 'secondary', mdiPowerStandby),
  heating: shown('heating', 'primary', mdiThermometerChevronUp),
  settling: shown('settling', 'primary', mdiTimerSand),
  steady: shown('steady', 'success', mdiThermometerCheck),
  soaked: shown('soaked', 'success', mdiThermometerCheck),
  cooling: shown('cooling', 'secondary', mdiThermometerChevronDown),
  alarm: shown('alarm', 'alarm', mdiBellAlert),
}

/** A heater of which nothing is known. */
export const unknownHeater = shown('no reading', 'secondary', mdiHelpCircleOutline)

/** What stands between a file and its start. */
export const checkLevels: Record<Schemas['Check']['level'], Shown & { type: 'error' | 'warning' | 'info' }> = {
  block: { ...shown('block', 'error', mdiAlertOctagon), type: 'error' },
  warn: { ...shown('warning', 'warning', mdiAlert), type: 'warning' },
  note: { ...shown('note', 'info', mdiInformation), type: 'info' },
}

/** What lies on the bed. */
export const bedStates: Table<Schemas['Bed']['state']> = {
  clear: shown('clear', 'success', mdiCheckCircle),
  occupied: shown('occupied', 'warning', mdiAlert),
  unknown: shown('not known', 'warning', mdiHelpCircleOutline),
}

/** What was done because of an alarm. */
export const alarmActions: Record<Schemas['Alarm']['action'], string> = {
  tell: 'Nothing was done by itself.',
  hold: 'The run was held.',
  cool: 'The run was held and every heater turned off.',
  halt: 'The printer was halted.',
}

/** What an alarm may have been, as a person says with one touch. */
export const alarmCauses: Record<NonNullable<Schemas['Acknowledgement']['verdict']>, { title: string, reasons: string[] }> = {
  sound: { title: 'Nothing was wrong:', reasons: ['a draught, a door or a window', 'somebody touched it, or laid something on it', 'weak mains', 'it is always so'] },
  fault: { title: 'It was a fault:', reasons: ['the sensor', 'the heater or its wires', 'something else'] },
}
