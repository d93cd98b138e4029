/**
 * The other machine of the office that these pages are about; '' for the one that serves them. Its pages have the
 * addresses of this one's, behind /at/ and its name.
 */
const found = /^\/at\/([^/]+)/.exec(globalThis.window?.location.pathname ?? '')
export const machine = found ? decodeURIComponent(found[1]) : ''

/** Where the pages of a machine begin. */
export const pagesOf = (name: string) => (name ? `/at/${encodeURIComponent(name)}` : '')

/** The address at which a machine is asked something. */
export const address = (path: string, at = machine) =>
  at ? path.replace('/api/v1/', `/api/at/${encodeURIComponent(at)}/v1/`) : path
