import { t } from '@lingui/core/macro'

import { written } from './language'

const sizes: [number, string][] = [
  [1e9, 'GB'],
  [1e6, 'MB'],
  [1e3, 'KB'],
]

/** A size as people say it; powers of ten. */
export function size(octets: number): string {
  for (const [n, unit] of sizes)
    if (octets >= n) {
      const places = octets / n < 10 && n > 1e3 ? 1 : 0
      return `${(octets / n).toLocaleString(written, { minimumFractionDigits: places, maximumFractionDigits: places })} ${unit}`
    }
  return `${octets} B`
}

const day = new Intl.DateTimeFormat(written, { day: 'numeric', month: 'short' })
const dayYear = new Intl.DateTimeFormat(written, { day: 'numeric', month: 'short', year: 'numeric' })
const time = new Intl.DateTimeFormat(written, { hour: '2-digit', minute: '2-digit' })

/** A moment, as short as it can be understood. */
export function when(iso: string): string {
  const d = new Date(iso)
  const now = new Date()
  if (d.toDateString() === now.toDateString()) return time.format(d)
  return `${(d.getFullYear() === now.getFullYear() ? day : dayYear).format(d)} ${time.format(d)}`
}

export const today = () =>
  new Intl.DateTimeFormat(written, { weekday: 'long', day: 'numeric', month: 'long' }).format(new Date())
/** A number as people write it. */
export const figure = (n = 0) => n.toLocaleString(written)

/** A decimal number that came as a text, with all of its places. */
export function exactNumber(text: string): string {
  const places = text.split('.')[1]?.length ?? 0
  // Intl.NumberFormat takes a text as it is, without losing digits (ECMA-402, StringNumericLiteral).
  return new Intl.NumberFormat(written, { minimumFractionDigits: places, maximumFractionDigits: places }).format(
    text as unknown as number,
  )
}

/** From where a time of receipt is known that is not the mail server's. */
export const receivedAs = (from?: string) =>
  from
    ? ({
        'received field': t` (as its Received field says)`,
        file: t` (as the time of its file says)`,
        'date field': t` (as its Date field says, which the sender wrote)`,
        unknown: t` (when Ink Tray first saw it; when it was received is not known)`,
      }[from] ?? '')
    : ''

const whole = new Intl.DateTimeFormat(written, {
  day: 'numeric',
  month: 'long',
  year: 'numeric',
  hour: '2-digit',
  minute: '2-digit',
  second: '2-digit',
})
/** A moment to the second. */
export const exactly = (iso: string) => whole.format(new Date(iso))
