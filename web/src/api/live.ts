import { type QueryClient, useQueryClient } from '@tanstack/react-query'
import { useEffect } from 'react'

const touched: Record<string, string[]> = {
  message: ['today', 'register', 'messages', 'message', 'passes'],
  pass: ['passes', 'rules'],
  mailbox: ['mailboxes', 'today'],
  tray: ['tray', 'today', 'register'],
  rules: ['rules', 'today'],
  cabinet: ['cabinets', 'today'],
}

/** Looks again at what the service says has changed, a few times a second at most. */
export function useLive() {
  const client: QueryClient = useQueryClient()
  useEffect(() => {
    const events = new EventSource('/api/v1/events')
    const waiting = new Set<string>()
    let timer: number | undefined
    const look = () => {
      timer = undefined
      for (const key of waiting) void client.invalidateQueries({ queryKey: [key] })
      waiting.clear()
    }
    for (const [kind, keys] of Object.entries(touched)) {
      events.addEventListener(kind, () => {
        for (const k of keys) waiting.add(k)
        timer ??= window.setTimeout(look, 400)
      })
    }
    return () => {
      events.close()
      window.clearTimeout(timer)
    }
  }, [client])
}
