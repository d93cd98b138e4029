import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { Link } from 'react-router'

import { Page } from '../ui/basics'
import { words } from '../ui/words'

/** How Ink Tray works, with a drawing, and the words that it uses. */
export function How() {
  return (
    <Page title={t`How Ink Tray works`} sub={t`From a message to a file in a folder, and what you decide.`}>
      <div className="max-w-3xl">
        <Drawing />
        <ol className="mb-8 list-decimal space-y-2 pl-6">
          <li>
            <Trans>
              A message arrives in a <b>mailbox</b>. Ink Tray watches it and marks nothing as read.
            </Trans>
          </li>
          <li>
            <Trans>
              Each{' '}
              <Link className="text-pen underline" to="/rules">
                rule
              </Link>{' '}
              that is on looks at the message: who sent it, its subject, its words, its attachments.
            </Trans>
          </li>
          <li>
            <Trans>
              If a rule is for the message, Ink Tray saves the attachments into a <b>cabinet</b>, in the folder and
              under the name that the rule gives. It never overwrites a file and never files the same attachment twice.
            </Trans>
          </li>
          <li>
            <Trans>
              Every file gets a number in the{' '}
              <Link className="text-pen underline" to="/register">
                register
              </Link>
              , which knows the message that the file came from.
            </Trans>
          </li>
          <li>
            <Trans>
              What needs you waits in the{' '}
              <Link className="text-pen underline" to="/tray">
                tray
              </Link>
              , with its reason.
            </Trans>
          </li>
          <li>
            <Trans>
              You can take back everything: one file, or a whole pass of the{' '}
              <Link className="text-pen underline" to="/history">
                history
              </Link>
              .
            </Trans>
          </li>
        </ol>
        <h2 className="mb-2">
          <Trans>Begin</Trans>
        </h2>
        <p className="mb-8">
          <Trans>
            Add a mailbox and a cabinet in{' '}
            <Link className="text-pen underline" to="/settings">
              Settings
            </Link>
            . Then write a{' '}
            <Link className="text-pen underline" to="/rules/new">
              new rule
            </Link>
            . Beside it you see what it would do with the mail that is there, before it does anything.
          </Trans>
        </p>
        <p className="mb-8">
          <Trans>
            The{' '}
            <Link className="text-pen underline" to="/book/start">
              documents
            </Link>{' '}
            say more: everyday tasks, every condition and field, and how to run Ink Tray.
          </Trans>
        </p>
        <h2 className="mb-2">
          <Trans>The words</Trans>
        </h2>
        <dl className="grid gap-x-6 gap-y-2 sm:grid-cols-[10rem_1fr]">
          {words.map(([word, name, means, at]) => (
            <div key={word} className="contents">
              <dt className="font-semibold">
                <Link className="underline decoration-line-2 underline-offset-4 hover:text-pen" to={at}>
                  {name}
                </Link>
              </dt>
              <dd className="mb-1 text-ink-2">{means}.</dd>
            </div>
          ))}
        </dl>
      </div>
    </Page>
  )
}

/** One box of the drawing. */
function Box({ x, y, name, note }: { x: number; y: number; name: string; note: string }) {
  return (
    <g>
      <rect x={x} y={y} width="150" height="62" rx="10" className="fill-sheet-2 stroke-line-2" />
      <text x={x + 75} y={y + 28} textAnchor="middle" className="fill-ink text-[16px] font-semibold">
        {name}
      </text>
      <text x={x + 75} y={y + 47} textAnchor="middle" className="fill-ink-3 text-[12.5px]">
        {note}
      </text>
    </g>
  )
}

function Drawing() {
  return (
    <svg
      viewBox="0 0 720 190"
      role="img"
      aria-label={t`A message goes from the mailbox through a rule into a cabinet. The register lists every file. What needs you waits in the tray.`}
      className="mb-6 w-full"
    >
      <defs>
        <marker id="tip" viewBox="0 0 8 8" refX="7" refY="4" markerWidth="8" markerHeight="8" orient="auto">
          <path d="M0 0 L8 4 L0 8 z" className="fill-ink-3" />
        </marker>
      </defs>
      <g className="stroke-ink-3" fill="none" strokeWidth="1.5" markerEnd="url(#tip)">
        <path d="M160 41 H 272" />
        <path d="M430 41 H 552" />
        <path d="M355 73 V 116" />
        <path d="M635 73 V 116" />
      </g>
      <Box x={8} y={10} name={t`Mailbox`} note={t`a message arrives`} />
      <Box x={280} y={10} name={t`Rule`} note={t`is it for this message?`} />
      <Box x={560} y={10} name={t`Cabinet`} note={t`the file, in its folder`} />
      <Box x={280} y={120} name={t`Tray`} note={t`what needs you`} />
      <Box x={560} y={120} name={t`Register`} note={t`every file, numbered`} />
    </svg>
  )
}
