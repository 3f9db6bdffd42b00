/** How a program can send: what it is told, and what its token may do. */
export type Way = 'http' | 'command' | 'folder'

export const ways: { value: Way, title: string, about: string }[] = [
  { value: 'http', title: 'It sends over HTTP', about: 'It has fields for an address and a header or a key, or calls a script.' },
  { value: 'command', title: 'It runs a command', about: 'After it has written its file it can run a program of yours with the file.' },
  { value: 'folder', title: 'It only writes to a folder', about: 'It saves where you say; the shelf is such a folder, too.' },
]

export type Then = 'store' | 'print' | 'queue'

export const thens: { value: Then, title: string }[] = [
  { value: 'store', title: 'Store it; I start it later' },
  { value: 'queue', title: 'Store it, and let it wait in turn' },
  { value: 'print', title: 'Start it as soon as it is here' },
]

/** The scopes that a way needs; a folder is listed as well as written. */
export function scopesFor(way: Way, then: Then): string[] {
  return [...way === 'folder' ? ['read'] : [], 'send', ...then === 'store' ? [] : ['start']]
}

/** How long a token is good, in days. */
export const lives = [
  { value: 0, title: 'Until I withdraw it' },
  { value: 30, title: 'For thirty days' },
  { value: 365, title: 'For a year' },
]

export interface Line { name: string, text: string }

/** What is to be copied into the program; trust is the key of a certificate that nobody else vouches for. */
export function linesFor(way: Way, then: Then, origin: string, token: string, trust: string): Line[] {
  const asked = then === 'store' ? '' : `?then=${then}`
  if (way === 'command') {
    const option = { store: '', print: ' --print', queue: ' --queue' }[then]
    return [{ name: 'Command; the program adds the file at its end', text: `diathermon --url ${origin}${trust && ` --trust ${trust}`} --token ${token} send${option}` }]
  }
  if (way === 'folder') {
    const at = `${origin}/dav/${then === 'store' ? '' : `${then}/`}`
    return [
      { name: 'Address of the folder', text: at },
      { name: 'Name', text: 'maker' },
      { name: 'Password', text: token },
      { name: 'Linux, in a terminal', text: `sudo mount -t davfs ${at} /mnt` },
    ]
  }
  return [
    { name: 'Address, as a form (POST, multipart/form-data)', text: `${origin}/v1/shelf${asked}` },
    { name: 'Address, as raw bytes (PUT)', text: `${origin}/v1/shelf/NAME.gcode${asked}` },
    { name: 'Header', text: `Authorization: Bearer ${token}` },
    { name: 'To try it in a terminal', text: `curl ${trust && `--insecure --pinnedpubkey '${trust}' `}-F file=@part.gcode -H "Authorization: Bearer ${token}" "${origin}/v1/shelf${asked}"` },
  ]
}
