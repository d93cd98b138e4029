import { readFileSync } from 'node:fs'

import { expect, test } from 'vitest'

import { inWords } from './patternwords'

// The file is read by a test of internal/core/pattern as well.
const cases = JSON.parse(readFileSync('../internal/core/pattern/testdata/words.json', 'utf8')) as {
  field: string
  words: string
}[]

const date = (name: string, words: string) => ({ name, words, type: 'date' })
const text = (name: string, words: string) => ({ name, words, type: 'text' })
const fields = [
  date('received', 'received'),
  date('sent', 'sent'),
  date('invoice.due', 'due'),
  text('invoice.number', 'invoice number'),
  text('file.stem', 'original name'),
  text('correspondent', 'correspondent'),
  text('sender.domain', 'sender’s domain'),
  text('subject', 'subject'),
  text('register', 'register number'),
  text('header', 'header field'),
]

test.each(cases)('$field is said in words', (c) => {
  expect(inWords(c.field, fields)).toBe(c.words)
})

test('a value is called by its name', () => {
  expect(inWords('value.order', fields)).toBe('order')
})
