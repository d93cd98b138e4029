import { expect, test } from 'vitest'

import { sections, settingsFor, slug } from './settings'

test('settings are found by their name and by what they are about', () => {
  expect(settingsFor('backup').map((s) => s.heading)).toEqual(['Backups'])
  expect(settingsFor('virus').map((s) => s.section)).toEqual(['safety'])
  expect(settingsFor('OCR languages').map((s) => s.heading)).toEqual(['Scans'])
  expect(settingsFor('mail server').map((s) => s.section)).toContain('mailboxes')
  expect(settingsFor('')).toEqual([])
  expect(settingsFor('zebra')).toEqual([])
})

test('each heading has an address of its own', () => {
  for (const s of sections) {
    const all = s.headings.map(([h]) => slug(h))
    expect(new Set(all).size).toBe(all.length)
  }
  expect(slug('Erasing a person’s traces')).toBe('erasing-a-person-s-traces')
})
