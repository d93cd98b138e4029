/** A part of a search: a word, or a filter of the form name:value. */
export type Part = { name?: string; value: string }

/** Takes a search apart where the service does: at spaces that stand in no quotes, straight or typographic. */
export function parts(text: string): Part[] {
  const all: Part[] = []
  for (const [piece] of text.replace(/[“”]/g, '"').matchAll(/(?:"[^"]*"?|[^\s"])+/g)) {
    const plain = piece.replaceAll('"', '')
    const at = piece.startsWith('"') ? -1 : plain.indexOf(':')
    if (at > 0) all.push({ name: plain.slice(0, at).toLowerCase(), value: plain.slice(at + 1) })
    else if (plain) all.push({ value: plain })
  }
  return all
}

/** A search as it is written. What would be taken for something else stands in quotes. */
export const text = (all: Part[]) =>
  all
    .map(({ name, value }) => {
      const quoted = /\s/.test(value) || (name === undefined && value.includes(':')) ? `"${value}"` : value
      return name === undefined ? quoted : `${name}:${quoted}`
    })
    .join(' ')

/** The search with one filter set anew; an empty value takes it out. */
export function having(search: string, name: string, value: string): string {
  const rest = parts(search).filter((p) => p.name !== name)
  return text(value.trim() ? [...rest, { name, value: value.replaceAll('"', '').trim() }] : rest)
}

export const of = (search: string, name: string) => parts(search).find((p) => p.name === name)?.value ?? ''
