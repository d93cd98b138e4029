import { expect, test } from 'vitest'

import { fitting, type Goal, numberGoals } from './goals'

const goals: Goal[] = [
  { kind: 'Page', name: 'Rules', to: '/rules' },
  { kind: 'Rule', name: 'Harbour dues', to: '/rules/a' },
  { kind: 'Rule', name: 'Crew lists', to: '/rules/b' },
  { kind: 'Mailbox', name: 'dues', to: '/mail?mailbox=x' },
]
const names = (text: string) => fitting(goals, text).map((g) => g.to)

test('what begins with the text comes first', () => {
  expect(names('dues')).toEqual(['/mail?mailbox=x', '/rules/a'])
  expect(names('ru')).toEqual(['/rules', '/rules/a', '/rules/b'])
})

test('words count in any order and in any letters, the kind as well', () => {
  expect(names('DUES harb')).toEqual(['/rules/a'])
  expect(names('rule crew')).toEqual(['/rules/b'])
  expect(names('  ')).toHaveLength(4)
  expect(names('nothing like it')).toEqual([])
})

test('numbers are filings and messages', () => {
  expect(numberGoals(' 2026-0012 ')).toEqual([{ kind: 'Filing', name: '2026-0012', to: '/register?text=2026-0012' }])
  expect(numberGoals('187')).toEqual([{ kind: 'Message', name: '187', to: '/messages/187' }])
  expect(numberGoals('20a')).toEqual([])
})
