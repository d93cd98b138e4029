import { expect, test } from 'vitest'

import { Problem } from '../api/client'
import { placed, sentence } from './form'

const problem = (...places: [string, string][]) =>
  new Problem({ detail: 'it cannot be kept', problems: places.map(([place, text]) => ({ place, text })) }, 422)

test('a problem stands at its field, as a sentence', () => {
  expect([...placed(problem(['name', 'the name is taken']), ['name', 'host'])]).toEqual([
    ['name', 'The name is taken.'],
  ])
})

test('a problem within a field stands at the field, the first one only', () => {
  const p = problem(['addresses[2]', 'no address'], ['addresses[5]', 'no address either'])
  expect([...placed(p, ['addresses'])]).toEqual([['addresses', 'No address.']])
})

test('fields may be called otherwise by the form', () => {
  const p = problem(['consent.issuer', 'nobody answers'])
  expect([...placed(p, ['issuer'], { 'consent.issuer': 'issuer' })]).toEqual([['issuer', 'Nobody answers.']])
})

test('what belongs to no field is not placed', () => {
  expect(placed(problem(['elsewhere', 'it is wrong']), ['name']).size).toBe(0)
  expect(placed(new Error('no answer'), ['name']).size).toBe(0)
  expect(placed(null, ['name']).size).toBe(0)
})

test('a sentence has one full stop', () => {
  expect(sentence('it is wrong.')).toBe('It is wrong.')
})
