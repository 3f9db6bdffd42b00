import { settable, type Settable } from '../../api/settable.gen'

/** What of a trim is said of each heater, and what is one number for the whole printer, with what there is to know of it. */
export const byHeater = ['heaters', 'first_layer'] as const
export type NumberKey = Exclude<keyof typeof settable.Trim, typeof byHeater[number]>
export const isNumber = (key: string): key is NumberKey => key in settable.Trim && !(byHeater as readonly string[]).includes(key)
export const numbers = Object.entries<Settable>(settable.Trim).filter(([key]) => isNumber(key)) as [NumberKey, Settable][]
