import {
  createContext,
  useCallback,
  type ReactNode,
  startTransition,
  useContext,
  useEffect,
  useLayoutEffect,
  useMemo,
  useRef,
  useState,
} from 'react'
import { NavigationType as Action, type To, UNSAFE_createBrowserHistory as createHistory, Router } from 'react-router'

type Asks = () => boolean
type Held = { go: () => void } | null
type Guard = { guard: (asks: Asks) => () => void; held: Held; drop: () => void }

const Guarded = createContext<Guard>({ guard: () => () => undefined, held: null, drop: () => undefined })

/** The pages by their addresses. A page may ask before it is left, also by the browser's back button. */
export function Pages({ basename, children }: { basename: string; children: ReactNode }) {
  const [history] = useState(() => createHistory({ v5Compat: true }))
  const [at, setAt] = useState({ action: history.action, location: history.location })
  const [held, setHeld] = useState<Held>(null)
  const asks = useRef<Asks | null>(null)
  const here = useRef(history.location.pathname)
  useLayoutEffect(() => {
    let passed = false // the person has answered
    let back: Held = null // a page asks, and the browser is on the way back to it
    let away = 0 // by how many pages the browser is away from it
    let later: number | undefined
    return history.listen(({ action, location, delta }) => {
      if (back && action === Action.Pop && delta) {
        window.clearTimeout(later)
        away += delta
        if (away === 0) {
          setHeld(back)
          back = null
        } else later = window.setTimeout(() => history.go(-away), 100) // it was pressed again on the way
        return
      }
      window.clearTimeout(later)
      back = null
      const leaves = action === Action.Pop && delta && !passed && location.pathname !== here.current && asks.current?.()
      passed = false
      if (!leaves) {
        here.current = location.pathname
        setHeld(null)
        // The page stays until the next one is loaded. What replaces an address is there already.
        if (action === Action.Replace) setAt({ action, location })
        else startTransition(() => setAt({ action, location }))
        return
      }
      away = delta
      back = {
        go: () => {
          passed = true
          history.go(delta)
        },
      }
      history.go(-delta)
    })
  }, [history])
  const navigator = useMemo(() => {
    const ask = (to: To, go: () => void) => {
      const path = typeof to === 'string' ? to.split(/[?#]/)[0] : (to.pathname ?? here.current)
      if (path !== here.current && asks.current?.()) setHeld({ go })
      else go()
    }
    return {
      createHref: (to: To) => history.createHref(to),
      encodeLocation: (to: To) => history.encodeLocation(to),
      go: (by: number) => history.go(by),
      push: (to: To, state?: unknown) => ask(to, () => history.push(to, state)),
      replace: (to: To, state?: unknown) => ask(to, () => history.replace(to, state)),
    }
  }, [history])
  const drop = useCallback(() => setHeld(null), [])
  const guard = useCallback((to: Asks) => {
    asks.current = to
    return () => {
      if (asks.current === to) asks.current = null
      setHeld(null)
    }
  }, [])
  const value = useMemo(() => ({ guard, held, drop }), [guard, held, drop])
  return (
    <Guarded.Provider value={value}>
      <Router basename={basename} navigator={navigator} location={at.location} navigationType={at.action}>
        {children}
      </Router>
    </Guarded.Provider>
  )
}

/**
 * Lets a page ask before it is left: whenever somebody wants to go to another page and asks() says so, "asked" is true
 * until leave or stay is called.
 */
export function useLeaving(asks: () => boolean) {
  const { guard, held, drop } = useContext(Guarded)
  const latest = useRef(asks)
  useEffect(() => {
    latest.current = asks
  })
  useEffect(() => guard(() => latest.current()), [guard])
  return { asked: held !== null, leave: () => held?.go(), stay: drop }
}
