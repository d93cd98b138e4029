/** The rule document as the letter edits it. What the letter has no blank for is kept as it is. */
export type Texts = string | string[]
export type ItemTest = { kind?: Texts; extension?: Texts; type?: Texts; name?: Texts; 'name matches'?: Texts; larger?: string; smaller?: string; inline?: boolean }
export type Leaf = Record<string, unknown>
export type Group = { group: 'all' | 'any' | 'none'; items: Node[] }
export type Node = Group | { leaf: Leaf }
export type Entry = { leave?: ItemTest[]; take?: 'everything' | ItemTest[]; folder?: string; name?: string; 'if name exists'?: string }
export type RuleDocument = {
  id?: string
  name: string
  cabinet: string
  look: { mailboxes: Texts; folders?: Texts }
  match: 'every message' | Leaf
  unless?: Leaf[]
  attachments?: Entry[]
  rest?: 'leave' | { folder: string; name?: string; 'if name exists'?: string }
  'leave out'?: string[]
  then?: 'continue' | 'stop'
  'time zone'?: string
}

export const list = (t: Texts | undefined): string[] => (t === undefined ? [] : Array.isArray(t) ? t : [t])
export const isGroup = (n: Node): n is Group => 'group' in n

const maps = ['sender', 'recipient', 'subject', 'subject.full', 'words', 'received', 'sent', 'size', 'attachments']

/** Takes a condition apart so that each part has one blank: all keys of one map must hold. */
export function toNode(c: Leaf): Node {
  const parts: Node[] = []
  for (const [key, v] of Object.entries(c)) {
    if (key === 'all' || key === 'any' || key === 'none') {
      parts.push({ group: key, items: (Array.isArray(v) ? v : [v]).map((x) => toNode(x as Leaf)) })
    } else if (maps.includes(key) && v && typeof v === 'object') {
      const inner = Object.entries(v).filter(([k]) => k !== 'exactly' && k !== 'in')
      const shared = Object.fromEntries(Object.entries(v).filter(([k]) => k === 'exactly' || k === 'in'))
      for (const [k, x] of inner) parts.push({ leaf: { [key]: { ...shared, [k === 'contains any' ? 'contains' : k]: x as unknown } } })
    } else parts.push({ leaf: { [key]: v } })
  }
  return parts.length === 1 ? parts[0] : { group: 'all', items: parts }
}

export const fromNode = (n: Node): Leaf => (isGroup(n) ? { [n.group]: n.items.map(fromNode) } : n.leaf)

/** The outermost group of a rule's condition, so that there is always something to add to. */
export function toRoot(match: RuleDocument['match']): Group | null {
  if (match === 'every message') return null
  const n = toNode(match)
  return isGroup(n) && n.group !== 'none' ? n : { group: 'all', items: [n] }
}

export function fromRoot(g: Group | null): RuleDocument['match'] {
  if (!g) return 'every message'
  if (g.items.length === 1 && !isGroup(g.items[0])) return fromNode(g.items[0])
  return fromNode(g)
}

/** Where a node stands in the document that is sent, to find the problems that are told about it. */
export const placeOf = (root: Group, base: string, index: number) => (base === 'match' && root.items.length === 1 && !isGroup(root.items[0]) ? 'match' : `${base}.${root.group}[${index}]`)

export type Shape = { key: string; sub?: string; words: string; group: string; values: 'texts' | 'domains' | 'item' | 'size' | 'age' | 'day' | 'yes' | 'count' }
/** The conditions that the letter has blanks for. */
export const shapes: Shape[] = [
  { key: 'sender', sub: 'domain', words: 'from', group: 'Sender', values: 'domains' },
  { key: 'sender', sub: 'address', words: 'from the address', group: 'Sender', values: 'texts' },
  { key: 'sender', sub: 'name', words: 'from someone called', group: 'Sender', values: 'texts' },
  { key: 'recipient', sub: 'address', words: 'to the address', group: 'Recipient', values: 'texts' },
  { key: 'recipient', sub: 'detail', words: 'to an address with +', group: 'Recipient', values: 'texts' },
  { key: 'subject', sub: 'contains', words: 'whose subject contains', group: 'Subject', values: 'texts' },
  { key: 'subject', sub: 'is', words: 'whose subject is', group: 'Subject', values: 'texts' },
  { key: 'subject', sub: 'begins', words: 'whose subject begins with', group: 'Subject', values: 'texts' },
  { key: 'subject', sub: 'ends', words: 'whose subject ends with', group: 'Subject', values: 'texts' },
  { key: 'subject', sub: 'like', words: 'whose subject is like', group: 'Subject', values: 'texts' },
  { key: 'words', sub: 'any', words: 'with any of the words', group: 'Words', values: 'texts' },
  { key: 'words', sub: 'all', words: 'with all of the words', group: 'Words', values: 'texts' },
  { key: 'attachment', words: 'with', group: 'Attachments', values: 'item' },
  { key: 'attachments', sub: 'at least', words: 'with at least', group: 'Attachments', values: 'count' },
  { key: 'attachments', sub: 'at most', words: 'with at most', group: 'Attachments', values: 'count' },
  { key: 'received', sub: 'within', words: 'received in the last', group: 'Date and size', values: 'age' },
  { key: 'received', sub: 'after', words: 'received on or after', group: 'Date and size', values: 'day' },
  { key: 'received', sub: 'before', words: 'received before', group: 'Date and size', values: 'day' },
  { key: 'size', sub: 'larger', words: 'larger than', group: 'Date and size', values: 'size' },
  { key: 'size', sub: 'smaller', words: 'smaller than', group: 'Date and size', values: 'size' },
  { key: 'label', words: 'with the label', group: 'Marks', values: 'texts' },
  { key: 'flagged', words: 'that are flagged', group: 'Marks', values: 'yes' },
  { key: 'read', words: 'that are read', group: 'Marks', values: 'yes' },
]

export const shapeOf = (leaf: Leaf): Shape | undefined => {
  const [key, v] = Object.entries(leaf)[0] ?? []
  if (!key) return undefined
  const subs = key !== 'attachment' && v && typeof v === 'object' && !Array.isArray(v) ? Object.keys(v).filter((k) => k !== 'exactly' && k !== 'in') : [undefined]
  return subs.length === 1 ? shapes.find((s) => s.key === key && s.sub === subs[0]) : undefined
}

export const valueOf = (leaf: Leaf, s: Shape): unknown => {
  const v = leaf[s.key]
  return s.sub ? (v as Record<string, unknown>)[s.sub] : v
}

export const withValue = (s: Shape, v: unknown, old?: Leaf): Leaf => {
  const shared = s.sub && old?.[s.key] && typeof old[s.key] === 'object' ? Object.fromEntries(Object.entries(old[s.key] as object).filter(([k]) => k === 'in' || (k === 'exactly' && s.sub === 'domain'))) : {}
  return { [s.key]: s.sub ? { ...shared, [s.sub]: v } : v }
}

export const emptyValue = (s: Shape): unknown => ({ texts: [], domains: [], item: { kind: 'pdf' }, size: '1 MB', age: '14 days', day: new Date().toISOString().slice(0, 10), yes: true, count: 1 })[s.values]
