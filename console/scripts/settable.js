// Writes what the document says of what can be set (x-settable) as a module, a table for each
// type: node settable.js DOCUMENT MODULE
import { readFileSync, writeFileSync } from 'node:fs'

const [from, to] = process.argv.slice(2)
const { schemas } = JSON.parse(readFileSync(from, 'utf8')).components
const tables = {}
for (const [type, { properties = {} }] of Object.entries(schemas)) {
  for (const [name, { 'x-settable': field }] of Object.entries(properties)) {
    if (field) (tables[type] ??= {})[name] = field
  }
}
if (!Object.keys(tables).length) throw new Error(`${from} says nothing of what can be set: run make openapi`)
for (const [type, table] of Object.entries(tables)) {
  const inOrder = Object.entries(table).sort(([, a], [, b]) => a.place - b.place)
  for (const [, field] of inOrder) delete field.place
  tables[type] = Object.fromEntries(inOrder)
}
writeFileSync(to, `// Made from the document by scripts/settable.js.
/** What there is to know of something that can be set: its word, its bounds, by which steps it is changed by hand, what 0 means. */
export interface Settable { word: string, unit?: string, least: number, most: number, whole?: boolean, steps: readonly [number, number], usual: number, zero?: string, longest?: number }

export const settable = ${JSON.stringify(tables, null, 2)} as const satisfies Record<string, Record<string, Settable>>
`)
