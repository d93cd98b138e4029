import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useMutation } from '@tanstack/react-query'

import { api, type Schemas, value } from '../api/client'
import { Button, Wrong } from '../ui/basics'
import { when } from '../ui/format'
import { labelOf } from '../ui/labels'

const looks: Record<Schemas['CheckupState'], string> = {
  works: 'text-moss',
  'not used': 'text-ink-3',
  attention: 'text-ochre',
  wrong: 'text-seal',
}

const summary: Record<Schemas['CheckupState'], string> = {
  works: t`Everything that is set up works.`,
  'not used': t`Everything that is set up works.`,
  attention: t`Everything works. Some things need your attention.`,
  wrong: t`Something does not work.`,
}

/** Checks everything that Ink Tray needs, and says what to do. */
export function Checkup() {
  const check = useMutation({ mutationFn: () => value(api.POST('/api/v1/checkup')) })
  return (
    <section id="check-up" className="mb-10 max-w-4xl">
      <div className="mb-2 flex items-center justify-between">
        <h2>
          <Trans>Check-up</Trans>
        </h2>
        <Button onClick={() => check.mutate()} disabled={check.isPending}>
          <Trans>Check everything</Trans>
        </Button>
      </div>
      <div className="border-t border-line py-3">
        {check.isIdle && (
          <p className="text-ink-2">
            <Trans>
              Ink Tray checks its records, the disk, the clock, every mailbox and cabinet, backups and everything else
              that it needs. It says what to do where something is wrong.
            </Trans>
          </p>
        )}
        {check.isPending && (
          <p role="status" className="text-ink-2">
            <Trans>Checking. This can take 40 seconds…</Trans>
          </p>
        )}
        <Wrong error={check.error} />
        {check.data && <Found checkup={check.data} />}
      </div>
    </section>
  )
}

function Found({ checkup }: { checkup: Schemas['Checkup'] }) {
  return (
    <>
      <p role="status" className={`mb-3 font-semibold ${looks[checkup.state]}`}>
        <Trans>
          {summary[checkup.state]} Checked {when(checkup.at)}.
        </Trans>
      </p>
      <table aria-label={t`Check-up`} className="w-full text-[14.5px]">
        <thead className="sr-only">
          <tr>
            <th>
              <Trans>Checked</Trans>
            </th>
            <th>
              <Trans>State</Trans>
            </th>
            <th>
              <Trans>Found</Trans>
            </th>
          </tr>
        </thead>
        <tbody>
          {checkup.findings.map((f, i) => (
            <tr key={i} className="border-b border-line align-top">
              <td className="py-2 pr-3">
                {f.about} {f.name && <b className="font-semibold">{f.name}</b>}
              </td>
              <td className={`py-2 pr-3 font-semibold whitespace-nowrap ${looks[f.state]}`}>{labelOf(f.state)}</td>
              <td className="py-2 [overflow-wrap:anywhere] first-letter:uppercase">
                {f.text}.{f.advice && <span className="block text-ink-2">{f.advice}</span>}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  )
}
