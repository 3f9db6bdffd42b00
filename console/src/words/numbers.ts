/** A size in bytes in words. */
export function size(bytes: number): string {
  if (bytes < 1000) return `${bytes} B`
  if (bytes < 1e6) return `${(bytes / 1e3).toFixed(0)} kB`
  return `${(bytes / 1e6).toFixed(1)} MB`
}

/** The number that a person typed, with a point or a comma; undefined where it is none. */
export function parse(text: string): number | undefined {
  const plain = text.trim().replace(',', '.')
  return /^[+-]?(\d+\.?\d*|\.\d+)$/.test(plain) ? Number(plain) : undefined
}

/** Makes a sentence begin as one, unless it begins with a file's name or a command. */
export const sentence = (text: string) => /^\S*[._\d]/.test(text) ? text : text.charAt(0).toUpperCase() + text.slice(1)
