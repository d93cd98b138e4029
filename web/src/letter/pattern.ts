/** A part of a pattern: a text, or what stands between < and >. */
export type Piece = { text: string; field?: undefined } | { text?: undefined; field: string }

/** The pieces of a pattern, in order. Quotes hide a >, and \\ hides a quote within them. */
export function pieces(pattern: string): Piece[] {
  const out: Piece[] = []
  let rest = pattern
  while (rest) {
    const open = rest.indexOf('<')
    if (open < 0) {
      out.push({ text: rest })
      break
    }
    if (open > 0) out.push({ text: rest.slice(0, open) })
    let end = -1
    let quoted = false
    for (let i = open + 1; i < rest.length && end < 0; i++) {
      if (rest[i] === '\\' && quoted) i++
      else if (rest[i] === '"') quoted = !quoted
      else if (rest[i] === '>' && !quoted) end = i
    }
    if (end < 0) {
      out.push({ text: rest.slice(open) })
      break
    }
    out.push({ field: rest.slice(open + 1, end) })
    rest = rest.slice(end + 1)
  }
  return out
}

/** The pieces as they are shown: "05 May" is one month. */
export function shownPieces(pattern: string): Piece[] {
  const all = pieces(pattern)
  return all.filter((p, i) => {
    const first = /^(\S+) month$/
    const begins = (at: number) => all[at]?.field?.match(first)?.[1]
    const month = (at: number) =>
      begins(at) && all[at + 1]?.text === ' ' && all[at + 2]?.field === `${begins(at)} month name`
    return !(p.text === ' ' && i > 0 && month(i - 1)) && !(i > 1 && month(i - 2))
  })
}

/** A pattern as it is written. */
export const written = (all: Piece[]) => all.map((p) => (p.field !== undefined ? `<${p.field}>` : p.text)).join('')

/** The pattern without one of its pieces, and without the / that would be left over. */
export const without = (pattern: string, index: number) =>
  written(pieces(pattern).filter((_, i) => i !== index))
    .replace(/\/{2,}/g, '/')
    .replace(/^\/|\/$/g, '')
