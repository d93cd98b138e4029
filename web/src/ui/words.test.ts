import { readFileSync } from 'node:fs'
import { expect, test } from 'vitest'

import { words } from './words'

test('the glossary of the documents says the same', () => {
  const lines = new Map(
    readFileSync(new URL('../../../docs/glossary.md', import.meta.url), 'utf8')
      .split('\n')
      .map((l) => l.split('|').map((cell) => cell.trim()))
      .filter((cells) => cells.length === 4)
      .map((cells) => [
        cells[1],
        cells[2]
          .replace(/ \(\[.*\)$/, '')
          .replace(/: `.*`$/, '')
          .replace('. *History* lists them', ''),
      ]),
  )
  for (const [word, , means] of words) expect([word, lines.get(word)]).toEqual([word, means])
})

test('words are in the order of the alphabet', () => {
  const names = words.map(([word]) => word)
  expect(names).toEqual([...names].sort())
})
