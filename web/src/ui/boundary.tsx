import { Trans } from '@lingui/react/macro'
import { Component, type ReactNode } from 'react'

import { loadsAhead } from './ahead'
import { Button } from './basics'

/** Where a page cannot be shown, it says so, instead of leaving nothing. */
export class Boundary extends Component<
  { children: ReactNode; where?: string },
  { failed?: { error: unknown; where?: string } }
> {
  state: { failed?: { error: unknown; where?: string } } = {}
  static getDerivedStateFromError(error: unknown) {
    return { failed: { error } }
  }
  static getDerivedStateFromProps(props: { where?: string }, state: { failed?: { error: unknown; where?: string } }) {
    if (!state.failed) return null
    if (state.failed.where === undefined) return { failed: { ...state.failed, where: props.where ?? '' } }
    return state.failed.where === (props.where ?? '') ? null : { failed: undefined } // another page was opened
  }
  render() {
    if (!this.state.failed) return this.props.children
    return (
      <div role="alert" className="max-w-2xl p-2">
        <h1>
          <Trans>This page cannot be shown</Trans>
        </h1>
        <p className="my-3 text-ink-2">
          <Trans>
            Ink Tray may have been updated since you opened the page. Load the page again. Everything that you saved is
            safe, and filing goes on.
          </Trans>
        </p>
        <Button look="main" onClick={() => window.location.reload()}>
          <Trans>Load again</Trans>
        </Button>
        <details className="mt-5 text-sm text-ink-3">
          <summary>
            <Trans>What went wrong</Trans>
          </summary>
          <p className="mt-2 font-mono [overflow-wrap:anywhere]">{String(this.state.failed.error)}</p>
        </details>
      </div>
    )
  }
}

/** After an update the parts of the old version are gone: the new version is loaded, once. */
export function followUpdates() {
  window.addEventListener('vite:preloadError', (event) => {
    if (loadsAhead()) return // nobody waits for it
    const last = Number(window.sessionStorage.getItem('loaded again'))
    if (Date.now() - last < 20_000) return // it did not help: the page says so
    window.sessionStorage.setItem('loaded again', String(Date.now()))
    event.preventDefault()
    window.location.reload()
  })
}
