import { t } from '@lingui/core/macro'
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

export const list = (texts: Texts | undefined): string[] =>
  texts === undefined ? [] : Array.isArray(texts) ? texts : [texts]
export const isGroup = (n: Node): n is Group => 'group' in n

const maps = [
  'sender',
  'original sender',
  'recipient',
  t`delivered to`,
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
  /** The words after "unless", where they differ. */
  exception?: string
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
    another: t`Another domain`,
  },
  {
    key,
    sub: 'correspondent',
    words: t`${from} the correspondent`,
    group,
    values: 'texts',
    offer: 'correspondents',
    another: t`Another correspondent or group`,
  },
  { key, sub: 'address', words: t`${from} the address`, group, values: 'texts', offer, another: t`Another address` },
  { key, sub: 'detail', words: t`${from} an address with +`, group, values: 'texts', another: t`What follows the +` },
]
const text = (key: string, noun: string, group: string): Shape[] => [
  {
    key,
    sub: 'contains',
    words: t`whose ${noun} contains`,
    exception: t`the ${noun} contains`,
    group,
    values: 'texts',
    offer: 'words',
  },
  {
    key,
    sub: 'contains all',
    words: t`whose ${noun} contains all of`,
    exception: t`the ${noun} contains all of`,
    group,
    values: 'texts',
    offer: 'words',
  },
  { key, sub: 'is', words: t`whose ${noun} is`, exception: t`the ${noun} is`, group, values: 'texts' },
  {
    key,
    sub: 'begins',
    words: t`whose ${noun} begins with`,
    exception: t`the ${noun} begins with`,
    group,
    values: 'texts',
  },
  { key, sub: 'ends', words: t`whose ${noun} ends with`, exception: t`the ${noun} ends with`, group, values: 'texts' },
  {
    key,
    sub: 'like',
    words: t`whose ${noun} is like`,
    exception: t`the ${noun} is like`,
    group,
    values: 'texts',
    another: t`Another text, with * for anything`,
  },
  {
    key,
    sub: 'matches',
    words: t`whose ${noun} matches`,
    exception: t`the ${noun} matches`,
    group,
    values: 'texts',
    another: t`Another regular expression`,
  },
]
const dates = (key: string, verb: string): Shape[] => [
  { key, sub: 'within', words: t`${verb} in the last`, group: t`Date and size`, values: 'age' },
  { key, sub: 'older', words: t`${verb} longer ago than`, group: t`Date and size`, values: 'age' },
  { key, sub: 'after', words: t`${verb} on or after`, group: t`Date and size`, values: 'day' },
  { key, sub: 'before', words: t`${verb} before`, group: t`Date and size`, values: 'day' },
]
/** The conditions that the letter has blanks for. */
export const shapes: Shape[] = [
  ...address('sender', t`from`, t`Sender`, 'addresses'),
  {
    key: 'sender',
    sub: 'name',
    words: t`from someone called`,
    group: t`Sender`,
    values: 'texts',
    another: t`Another name, which a sender can choose freely`,
  },
  {
    key: 'sender',
    sub: 'verified',
    words: t`whose sender is`,
    exception: t`the sender is`,
    group: t`Sender`,
    values: 'yes',
  },
  ...address('original sender', t`originally from`, t`Sender`, 'addresses'),
  ...address('recipient', t`to`, t`Recipient`, 'recipients'),
  ...address(t`delivered to`, t`delivered to`, t`Recipient`, 'recipients'),
  ...text('subject', t`subject`, t`Subject`),
  ...text('subject.full', t`full subject`, t`Full subject, with Re: and Fwd:`),
  {
    key: 'words',
    sub: 'any',
    words: t`with any of the words`,
    group: t`Words in subject, text and names`,
    values: 'texts',
    offer: 'words',
  },
  {
    key: 'words',
    sub: 'all',
    words: t`with all of the words`,
    group: t`Words in subject, text and names`,
    values: 'texts',
    offer: 'words',
  },
  {
    key: 'header',
    words: t`whose header field`,
    exception: t`the header field`,
    group: t`Words in subject, text and names`,
    values: 'header',
  },
  {
    key: 'topic',
    sub: 'is',
    words: t`about`,
    group: t`What it is about, learned from examples`,
    values: 'texts',
    offer: 'topics',
    another: t`Another topic`,
  },
  { key: 'attachment', words: t`with`, group: t`Attachments`, values: 'item' },
  { key: 'attachments', sub: 'at least', words: t`with at least`, group: t`Attachments`, values: 'count' },
  { key: 'attachments', sub: 'at most', words: t`with at most`, group: t`Attachments`, values: 'count' },
  ...dates('received', t`received`),
  ...dates('sent', t`sent`),
  { key: 'size', sub: 'larger', words: t`larger than`, group: t`Date and size`, values: 'size' },
  { key: 'size', sub: 'smaller', words: t`smaller than`, group: t`Date and size`, values: 'size' },
  { key: 'label', words: t`with the label`, group: t`Marks and place`, values: 'texts', offer: 'labels' },
  { key: 'flagged', words: t`that are flagged`, exception: t`it is flagged`, group: t`Marks and place`, values: 'yes' },
  { key: 'read', words: t`that are read`, exception: t`it is read`, group: t`Marks and place`, values: 'yes' },
  { key: 'folder', words: t`in the mail folder`, group: t`Marks and place`, values: 'texts', offer: 'folders' },
  { key: 'taken earlier', words: t`of which an earlier rule takes`, group: t`Marks and place`, values: 'no' },
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
