import { useEffect, useRef, useState } from 'react'
import { useSearchParams } from 'react-router'

/** The filters of a page, kept in the address so that it can be shared. */
export function useAddress() {
  const [search, setSearch] = useSearchParams()
  const latest = useRef(search) // two changes may come before the page is drawn anew
  useEffect(() => {
    latest.current = search
  }, [search])
  const set = (changes: Record<string, string>, replace = false) => {
    const next = new URLSearchParams(latest.current)
    for (const [k, v] of Object.entries(changes))
      if (v) next.set(k, v)
      else next.delete(k)
    latest.current = next
    setSearch(next, { replace })
  }
  return [(key: string) => search.get(key) ?? '', set] as const
}

/** What is typed becomes the address a moment later, in milliseconds. */
export function useTyped(text: string, commit: (text: string) => void, later: number) {
  const [typed, setTyped] = useState(text)
  const seen = useRef(text)
  useEffect(() => {
    if (text !== seen.current) {
      seen.current = text
      setTyped(text)
    }
  }, [text])
  useEffect(() => {
    if (typed === text) return
    const timer = window.setTimeout(() => {
      seen.current = typed
      commit(typed)
    }, later)
    return () => window.clearTimeout(timer)
  })
  return [
    typed,
    (text: string, known = false) => {
      setTyped(text)
      if (known) seen.current = text
    },
  ] as const
}
