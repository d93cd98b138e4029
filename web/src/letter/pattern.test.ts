import { readFileSync } from 'node:fs'

import { expect, test } from 'vitest'

import { type Piece, pieces, shownPieces, without, written } from './pattern'

// The file is read by a test of internal/core/pattern as well.
const cases = JSON.parse(readFileSync('../internal/core/pattern/testdata/pieces.json', 'utf8')) as {
  pattern: string
  pieces: Piece[]
}[]

test.each(cases)('$pattern is shown by its fields, and written as it was', (c) => {
  expect(pieces(c.pattern)).toEqual(c.pieces)
  expect(written(pieces(c.pattern))).toBe(c.pattern)
})

test('a field that is taken out leaves no empty folder', () => {
  const pattern = '<sender.domain>/Mail/<received year>/<received month>'
  const at = pieces(pattern).findIndex((p) => p.field === 'received year')
  expect(without(pattern, at)).toBe('<sender.domain>/Mail/<received month>')
  expect(without(pattern, 0)).toBe('Mail/<received year>/<received month>')
  expect(without('<subject>', 0)).toBe('')
})

test('the number and the name of a month are shown as one month', () => {
  const shown = (p: string) => shownPieces(p).map((x) => x.field ?? x.text)
  expect(shown('A/<received month> <received month name>')).toEqual(['A/', 'received month'])
  expect(shown('<received month>-<received month name>')).toEqual(['received month', '-', 'received month name'])
  expect(shown('<sent month> <received month name>')).toEqual(['sent month', ' ', 'received month name'])
})
