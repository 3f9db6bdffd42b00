/** Where the console is on its host: behind a proxy that may be below a path. */
export const base = new URL(document.baseURI).pathname.replace(/\/$/, '')

/** An address of the host's, as this browser reaches it. */
export const at = (path: string) => base + path
