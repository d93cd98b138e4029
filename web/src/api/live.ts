import { useQueryClient } from '@tanstack/react-query'
import { useEffect } from 'react'

import { keys } from './queries'
import { address } from './where'

/** What has to be asked again when the service says that something of a kind has changed. */
const touched: Record<string, (readonly string[])[]> = {
  message: [keys.today, keys.register, keys.messages, keys.message, keys.passes],
  pass: [keys.passes, keys.rules],
  mailbox: [keys.mailboxes, keys.today],
  tray: [keys.tray, keys.today, keys.register],
  rules: [keys.rules, keys.today],
  cabinet: [keys.cabinets, keys.today],
  backup: [keys.backup],
  restored: [keys.backup],
  machine: [keys.machines, keys.today, keys.tray, keys.register, keys.passes],
}

/** How long news is gathered, and how long the service is left alone after a connection failed, in milliseconds. */
const gathered = 400
const first = 1_000
const longest = 30_000

type Connection = Pick<EventSource, 'addEventListener' | 'close' | 'readyState'>
const closed = 2 // EventSource.CLOSED, which tests do not have

/**
 * Follows the events of the service: changed is told which keys to ask again, a few times a second at most. While there
 * is no connection nothing is told, so missed is called once there is one again. A browser connects again by itself
 * after a broken connection, but not after an answer that is an error; then this does. The result ends it.
 */
export function follow(
  changed: (keys: Iterable<readonly string[]>) => void,
  missed: () => void,
  connect: () => Connection = () => new EventSource(address('/api/v1/events')),
): () => void {
  const waiting = new Set<readonly string[]>()
  let gathering: ReturnType<typeof setTimeout> | undefined
  let later: ReturnType<typeof setTimeout> | undefined
  let gap = false
  let pause = first
  let events: Connection
  const begin = () => {
    events = connect()
    events.addEventListener('open', () => {
      if (gap) missed()
      gap = false
      pause = first
    })
    events.addEventListener('error', () => {
      gap = true
      if (events.readyState !== closed) return
      clearTimeout(later)
      later = setTimeout(begin, pause)
      pause = Math.min(pause * 2, longest)
    })
    for (const [kind, these] of Object.entries(touched)) {
      events.addEventListener(kind, () => {
        for (const key of these) waiting.add(key)
        gathering ??= setTimeout(() => {
          gathering = undefined
          changed([...waiting])
          waiting.clear()
        }, gathered)
      })
    }
  }
  begin()
  return () => {
    events.close()
    clearTimeout(gathering)
    clearTimeout(later)
  }
}

/** Looks again at what the service says has changed. */
export function useLive() {
  const client = useQueryClient()
  useEffect(
    () =>
      follow(
        (these) => {
          for (const queryKey of these) void client.invalidateQueries({ queryKey })
        },
        () => void client.invalidateQueries(),
      ),
    [client],
  )
}
