import { readFileSync } from 'node:fs'

import { expect, test } from 'vitest'

import { having, of, type Part, parts, text } from './search'

// The file is read by a test of internal/core/register as well.
const cases = JSON.parse(readFileSync('../internal/core/register/testdata/searches.json', 'utf8')) as {
  text: string
  parts: Part[]
  written: string
}[]

test.each(cases)('$text is taken apart as the service does, and written anew', (c) => {
  expect(parts(c.text)).toEqual(c.parts)
  expect(text(parts(c.text))).toBe(c.written)
  expect(parts(c.written)).toEqual(c.parts)
})

test('a filter is set, changed and taken out, and nothing else changes', () => {
  expect(having('tide', 'rule', 'Tide gauge readings')).toBe('tide rule:"Tide gauge readings"')
  expect(having('tide rule:old "10:30"', 'rule', 'new')).toBe('tide "10:30" rule:new')
  expect(having('tide rule:old', 'rule', ' ')).toBe('tide')
  expect(having('', 'sender', 'say "hello"')).toBe('sender:"say hello"')
  expect(of('tide rule:"Tide gauge"', 'rule')).toBe('Tide gauge')
  expect(of('tide', 'rule')).toBe('')
})
