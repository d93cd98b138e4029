import { readFileSync } from 'node:fs'

import { describe, expect, test } from 'vitest'

import { fromRoot, isGroup, type Leaf, list, placeOf, shapeOf, shapes, toRoot, valueOf, withValue } from './document'

// Both files are read by tests of internal/core as well.
const read = <T>(path: string) => JSON.parse(readFileSync(`../internal/core/${path}`, 'utf8')) as T

describe('a condition', () => {
  const cases = read<{ given: Leaf; kept: Leaf }[]>('rule/testdata/conditions.json')
  test.each(cases)('$given is kept in its meaning', ({ given, kept }) => {
    expect(fromRoot(toRoot(given))).toEqual(kept)
    expect(fromRoot(toRoot(kept))).toEqual(kept)
  })

  test.each(cases)('each test of $given has one blank', ({ given }) => {
    const leaves = (g: ReturnType<typeof toRoot>): Leaf[] =>
      g!.items.flatMap((n) => (isGroup(n) ? leaves(n) : [n.leaf]))
    for (const leaf of leaves(toRoot(given))) {
      const shape = shapeOf(leaf)
      expect(shape, JSON.stringify(leaf)).toBeDefined()
      expect(withValue(shape!, valueOf(leaf, shape!), leaf)).toEqual(leaf)
    }
  })

  test('of every message is none', () => {
    expect(toRoot('every message')).toBeNull()
    expect(fromRoot(null)).toBe('every message')
  })

  test('that the letter has no blank for is kept as it is', () => {
    const odd = { 'phase of the moon': { is: 'full', in: 'Brackwater' } }
    expect(fromRoot(toRoot(odd))).toEqual(odd)
    expect(shapeOf(odd)).toBeUndefined()
  })

  test('stands in the document where its problems are told', () => {
    const both = toRoot({ all: [{ flagged: true }, { read: true }] })!
    expect(placeOf(both, 'match', 1)).toBe('match.all[1]')
    expect(placeOf(toRoot({ flagged: true })!, 'match', 0)).toBe('match')
  })

  test('that is new has a value of its kind', () => {
    for (const s of shapes) {
      const leaf = withValue(s, s.values === 'texts' ? ['x'] : 1)
      expect(shapeOf(leaf)?.words, JSON.stringify(leaf)).toBe(s.words)
    }
  })
})

test('one text and several are a list', () => {
  expect([list(undefined), list('a'), list(['a', 'b'])]).toEqual([[], ['a'], ['a', 'b']])
})
