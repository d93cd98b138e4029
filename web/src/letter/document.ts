import type { Schemas } from '../api/client'

/** The rule document as the letter edits it. What the letter has no blank for is kept as it is. */
export type RuleDocument = Schemas['RuleDocument']
export type Texts = Schemas['RuleTexts']
export type Leaf = Schemas['RuleCondition']
export type ItemTest = Schemas['RuleItemTest']
export type Value = Schemas['RuleValue']
export type ValueTest = Schemas['RuleValueTest']
export type InnerText = Schemas['RuleInnerText']
export type Entry = Schemas['RuleEntry']
export type Place = Omit<Entry, 'take' | 'leave'>
export type Copy = Schemas['RuleCopy']
export type Reply = Schemas['RuleReply']
export type Tell = Schemas['RuleTell']
export type Step = Schemas['RuleStep']
/** A condition taken apart: a group of others, or one test. */
export type Group = { group: 'all' | 'any' | 'none'; items: Node[] }
export type Node = Group | { leaf: Leaf }

export const list = (t: Texts | undefined): string[] => (t === undefined ? [] : Array.isArray(t) ? t : [t])
export const isGroup = (n: Node): n is Group => 'group' in n

const maps = [
  'sender',
  'original sender',
  'recipient',
  'delivered to',
  'subject',
  'subject.full',
  'words',
  'received',
  'sent',
  'size',
  'attachments',
  'header',
  'topic',
]
/** Keys that belong to the others of their map. */
const shared = ['exactly', 'in', 'confidence']
const isShared = (key: string, k: string) => shared.includes(k) || (key === 'header' && k === 'name')

/** Takes a condition apart so that each part has one blank: all keys of one map must hold. */
export function toNode(c: Leaf): Node {
  const parts: Node[] = []
  for (const [key, v] of Object.entries(c)) {
    if (key === 'all' || key === 'any' || key === 'none') {
      parts.push({ group: key, items: (Array.isArray(v) ? v : [v]).map((x) => toNode(x as Leaf)) })
    } else if (maps.includes(key) && v && typeof v === 'object') {
      const inner = Object.entries(v as Leaf).filter(([k]) => !isShared(key, k))
      const common = Object.fromEntries(Object.entries(v as Leaf).filter(([k]) => isShared(key, k)))
      for (const [k, x] of inner)
        parts.push({
          leaf: {
            [key]: {
              ...(k === 'domain' || key !== 'sender' ? common : {}),
              [k === 'contains any' ? 'contains' : k]: x,
            },
          },
        })
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
export const placeOf = (root: Group, base: string, index: number) =>
  base === 'match' && root.items.length === 1 && !isGroup(root.items[0]) ? 'match' : `${base}.${root.group}[${index}]`

export type Offer =
  'domains' | 'addresses' | 'words' | 'recipients' | 'labels' | 'folders' | 'correspondents' | 'topics'
export type Shape = {
  key: string
  sub?: string
  words: string
  group: string
  values: 'texts' | 'item' | 'size' | 'age' | 'day' | 'yes' | 'no' | 'count' | 'header'
  offer?: Offer
  another?: string
}
const address = (key: string, from: string, group: string, offer: Offer): Shape[] => [
  {
    key,
    sub: 'domain',
    words: from,
    group,
    values: 'texts',
    offer: key === 'sender' ? 'domains' : undefined,
    another: 'Another domain',
  },
  {
    key,
    sub: 'correspondent',
    words: `${from} the correspondent`,
    group,
    values: 'texts',
    offer: 'correspondents',
    another: 'Another correspondent or group',
  },
  { key, sub: 'address', words: `${from} the address`, group, values: 'texts', offer, another: 'Another address' },
  { key, sub: 'detail', words: `${from} an address with +`, group, values: 'texts', another: 'What follows the +' },
]
const text = (key: string, noun: string, group: string): Shape[] => [
  { key, sub: 'contains', words: `whose ${noun} contains`, group, values: 'texts', offer: 'words' },
  { key, sub: 'contains all', words: `whose ${noun} contains all of`, group, values: 'texts', offer: 'words' },
  { key, sub: 'is', words: `whose ${noun} is`, group, values: 'texts' },
  { key, sub: 'begins', words: `whose ${noun} begins with`, group, values: 'texts' },
  { key, sub: 'ends', words: `whose ${noun} ends with`, group, values: 'texts' },
  {
    key,
    sub: 'like',
    words: `whose ${noun} is like`,
    group,
    values: 'texts',
    another: 'Another text, with * for anything',
  },
  {
    key,
    sub: 'matches',
    words: `whose ${noun} matches`,
    group,
    values: 'texts',
    another: 'Another regular expression',
  },
]
const dates = (key: string, verb: string): Shape[] => [
  { key, sub: 'within', words: `${verb} in the last`, group: 'Date and size', values: 'age' },
  { key, sub: 'older', words: `${verb} longer ago than`, group: 'Date and size', values: 'age' },
  { key, sub: 'after', words: `${verb} on or after`, group: 'Date and size', values: 'day' },
  { key, sub: 'before', words: `${verb} before`, group: 'Date and size', values: 'day' },
]
/** The conditions that the letter has blanks for. */
export const shapes: Shape[] = [
  ...address('sender', 'from', 'Sender', 'addresses'),
  {
    key: 'sender',
    sub: 'name',
    words: 'from someone called',
    group: 'Sender',
    values: 'texts',
    another: 'Another name, which a sender can choose freely',
  },
  { key: 'sender', sub: 'verified', words: 'whose sender is', group: 'Sender', values: 'yes' },
  ...address('original sender', 'originally from', 'Sender', 'addresses'),
  ...address('recipient', 'to', 'Recipient', 'recipients'),
  ...address('delivered to', 'delivered to', 'Recipient', 'recipients'),
  ...text('subject', 'subject', 'Subject'),
  ...text('subject.full', 'full subject', 'Full subject, with Re: and Fwd:'),
  {
    key: 'words',
    sub: 'any',
    words: 'with any of the words',
    group: 'Words in subject, text and names',
    values: 'texts',
    offer: 'words',
  },
  {
    key: 'words',
    sub: 'all',
    words: 'with all of the words',
    group: 'Words in subject, text and names',
    values: 'texts',
    offer: 'words',
  },
  { key: 'header', words: 'whose header field', group: 'Words in subject, text and names', values: 'header' },
  {
    key: 'topic',
    sub: 'is',
    words: 'about',
    group: 'What it is about, learned from examples',
    values: 'texts',
    offer: 'topics',
    another: 'Another topic',
  },
  { key: 'attachment', words: 'with', group: 'Attachments', values: 'item' },
  { key: 'attachments', sub: 'at least', words: 'with at least', group: 'Attachments', values: 'count' },
  { key: 'attachments', sub: 'at most', words: 'with at most', group: 'Attachments', values: 'count' },
  ...dates('received', 'received'),
  ...dates('sent', 'sent'),
  { key: 'size', sub: 'larger', words: 'larger than', group: 'Date and size', values: 'size' },
  { key: 'size', sub: 'smaller', words: 'smaller than', group: 'Date and size', values: 'size' },
  { key: 'label', words: 'with the label', group: 'Marks and place', values: 'texts', offer: 'labels' },
  { key: 'flagged', words: 'that are flagged', group: 'Marks and place', values: 'yes' },
  { key: 'read', words: 'that are read', group: 'Marks and place', values: 'yes' },
  { key: 'folder', words: 'in the mail folder', group: 'Marks and place', values: 'texts', offer: 'folders' },
  { key: 'taken earlier', words: 'of which an earlier rule takes', group: 'Marks and place', values: 'no' },
]

export const headerOps = ['contains', 'contains all', 'is', 'begins', 'ends', 'like', 'matches', 'there'] as const

export const shapeOf = (leaf: Leaf): Shape | undefined => {
  const [key, v] = Object.entries(leaf)[0] ?? []
  if (!key) return undefined
  if (key === 'header') return shapes.find((s) => s.key === 'header')
  const subs =
    key !== 'attachment' && v && typeof v === 'object' && !Array.isArray(v)
      ? Object.keys(v).filter((k) => !isShared(key, k))
      : [undefined]
  return subs.length === 1 ? shapes.find((s) => s.key === key && s.sub === subs[0]) : undefined
}

export const valueOf = (leaf: Leaf, s: Shape): unknown => {
  const v = leaf[s.key]
  return s.sub ? (v as Record<string, unknown>)[s.sub] : v
}

export const withValue = (s: Shape, v: unknown, old?: Leaf): Leaf => {
  const was = s.sub && old?.[s.key]
  const common =
    was && typeof was === 'object'
      ? Object.fromEntries(
          Object.entries(was).filter(
            ([k]) => k === 'in' || (k === 'confidence' && s.key === 'topic') || (k === 'exactly' && s.sub === 'domain'),
          ),
        )
      : {}
  return { [s.key]: s.sub ? { ...common, [s.sub]: v } : v }
}

export const emptyValue = (s: Shape): unknown =>
  ({
    texts: [],
    item: { kind: 'pdf' },
    size: '1 MB',
    age: '14 days',
    day: new Date().toISOString().slice(0, 10),
    yes: true,
    no: false,
    count: 1,
    header: { name: '', contains: [] },
  })[s.values]
