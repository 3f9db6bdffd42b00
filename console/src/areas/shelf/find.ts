import type { Schemas } from '../../api/client'

type File = Schemas['File']

/** The orders in which the shelf can be looked at. */
export const orders = {
  newest: { title: 'Newest first', by: (a: File, b: File) => b.stored.localeCompare(a.stored) },
  run: { title: 'Last run first', by: (a: File, b: File) => (b.history.last ?? '').localeCompare(a.history.last ?? '') },
  name: { title: 'By name', by: (a: File, b: File) => a.name.localeCompare(b.name, undefined, { numeric: true }) },
  shortest: { title: 'Shortest first', by: (a: File, b: File) => a.duration_seconds - b.duration_seconds },
  largest: { title: 'Largest first', by: (a: File, b: File) => b.size - a.size },
}
export type Order = keyof typeof orders

/** The files that have every word in their name, their tags or what sent them, in an order. */
export function find(files: File[], words: string, order: Order): File[] {
  const wanted = words.toLowerCase().split(/\s+/).filter(Boolean)
  return files
    .filter(f => {
      const text = [f.name, f.sender ?? '', f.hints.material ?? '', ...f.tags].join(' ').toLowerCase()
      return wanted.every(w => text.includes(w))
    })
    .sort(orders[order].by)
}
