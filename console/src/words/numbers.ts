/** A size in bytes in words. */
export function size(bytes: number): string {
  if (bytes < 1000) return `${bytes} B`
  if (bytes < 1e6) return `${(bytes / 1e3).toFixed(0)} kB`
  if (bytes < 1e9) return `${(bytes / 1e6).toFixed(1)} MB`
  return `${(bytes / 1e9).toFixed(1)} GB`
}

/** How large a part is: X, Y and its height. */
export function dimensions(box: { min: number[], max: number[] }): string {
  return `${(box.max[0]! - box.min[0]!).toFixed(0)} × ${(box.max[1]! - box.min[1]!).toFixed(0)} × ${box.max[2]!.toFixed(box.max[2]! < 10 ? 1 : 0)} mm`
}

/** The number that a person typed, with a point or a comma; undefined where it is none. */
export function parse(text: string): number | undefined {
  const plain = text.trim().replace(',', '.')
  return /^[+-]?(\d+\.?\d*|\.\d+)$/.test(plain) ? Number(plain) : undefined
}

/** Things one after another: "this, that and those". */
export const listed = (things: string[]) => things.length > 1 ? `${things.slice(0, -1).join(', ')} and ${things.at(-1)}` : things[0] ?? 'nothing'

/** Makes a sentence begin as one, unless it begins with a file's name or a command. */
export const sentence = (text: string) => /^\S*[._\d]/.test(text) ? text : text.charAt(0).toUpperCase() + text.slice(1)
