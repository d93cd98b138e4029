import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { Link } from 'react-router'

import { Opens } from './basics'
import { words } from './words'

/** A word that Ink Tray uses in its own sense, with what it means, where it first stands on a page. */
export function Term({ word, question, children }: { word: string; question?: string; children?: string }) {
  const [, name = word, means, at = ''] = words.find(([w]) => w === word) ?? []
  const shown = question ?? children ?? name
  if (!means) return <>{shown}</>
  return (
    <Opens
      label={t`What ${name} means`}
      card="w-[min(92vw,22rem)] p-4"
      button={{ className: 'term', 'aria-label': question ?? t`${shown}: what it means`, children: shown }}
    >
      <p>
        <b className="font-semibold">{name.charAt(0).toUpperCase() + name.slice(1)}</b>: {means}.
      </p>
      <Link className="mt-2 block text-pen underline" to={at}>
        <Trans>Read more in the documents</Trans>
      </Link>
      <Link className="mt-1 block text-pen underline" to="/how">
        <Trans>How Ink Tray works</Trans>
      </Link>
    </Opens>
  )
}
