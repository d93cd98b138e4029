import { afterEach, beforeEach, expect, test, vi } from 'vitest'

import { follow } from './live'

/** A connection that the test opens, breaks and speaks on. */
class Fake {
  readyState = 0
  private listeners: Record<string, (() => void)[]> = {}
  addEventListener(kind: string, f: () => void) {
    ;(this.listeners[kind] ??= []).push(f)
  }
  close() {
    this.readyState = 2
  }
  say(kind: string) {
    for (const f of this.listeners[kind] ?? []) f()
  }
}

let made: Fake[]
let asked: string[][]
let missed: number
let end: () => void

beforeEach(() => {
  vi.useFakeTimers()
  made = []
  asked = []
  missed = 0
  end = follow(
    (keys) => asked.push([...keys].map((k) => k.join(' ')).sort()),
    () => missed++,
    () => {
      made.push(new Fake())
      return made[made.length - 1] as unknown as EventSource
    },
  )
})

afterEach(() => {
  end()
  vi.useRealTimers()
})

test('many events ask once, and only for what they touch', () => {
  made[0].say('open')
  for (let i = 0; i < 50; i++) made[0].say('mailbox')
  made[0].say('rules')
  vi.advanceTimersByTime(399)
  expect(asked).toEqual([])
  vi.advanceTimersByTime(1)
  expect(asked).toEqual([['mailboxes', 'rules', 'today']])
  made[0].say('cabinet')
  vi.advanceTimersByTime(400)
  expect(asked[1]).toEqual(['cabinets', 'today'])
  expect(missed).toBe(0)
})

test('after a gap everything is asked again, once', () => {
  made[0].say('open')
  made[0].say('error') // the browser connects again by itself
  made[0].say('error')
  expect(missed).toBe(0)
  made[0].say('open')
  expect(missed).toBe(1)
  made[0].say('open')
  expect(missed).toBe(1)
  expect(made.length).toBe(1)
})

test('an answer that is an error is tried again, less and less often', () => {
  const refuse = () => {
    made[made.length - 1].readyState = 2
    made[made.length - 1].say('error')
  }
  for (const pause of [1, 2, 4, 8, 16, 30, 30]) {
    const n = made.length
    refuse()
    vi.advanceTimersByTime(pause * 1000 - 1)
    expect(made.length).toBe(n)
    vi.advanceTimersByTime(1)
    expect(made.length).toBe(n + 1)
  }
  made[made.length - 1].say('open')
  expect(missed).toBe(1)
  refuse()
  vi.advanceTimersByTime(1000)
  expect(made.length).toBe(9)
})

test('nothing is asked and nobody connects after the end', () => {
  made[0].say('open')
  made[0].say('tray')
  made[0].readyState = 2
  made[0].say('error')
  end()
  vi.advanceTimersByTime(100_000)
  expect(asked).toEqual([])
  expect(made.length).toBe(1)
})
