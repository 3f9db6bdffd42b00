/** What a browser of four years ago lacks, and the console and its components use. */

const add = (to: object, name: string, value: unknown) => {
  if (!(name in to)) Object.defineProperty(to, name, { value, writable: true, configurable: true })
}

add(Array.prototype, 'toSorted', function (this: unknown[], by?: (a: unknown, b: unknown) => number) { return [...this].sort(by) })
add(Array.prototype, 'toReversed', function (this: unknown[]) { return [...this].reverse() })
add(Array.prototype, 'toSpliced', function (this: unknown[], ...how: [number, number, ...unknown[]]) {
  const out = [...this]
  out.splice(...how)
  return out
})

export {}
