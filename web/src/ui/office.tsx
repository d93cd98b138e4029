import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useQuery } from '@tanstack/react-query'
import type { ReactNode } from 'react'
import { Link } from 'react-router'

import type { Schemas } from '../api/client'
import { queries } from '../api/queries'
import { machine, pagesOf } from '../api/where'
import { when } from './format'

/** The other machines of the office, and the name of another machine where something is of one. */
export function useOffice() {
  const machines = useQuery(queries.machines)
  const others = machines.data?.others ?? []
  return {
    others,
    here: machines.data?.here ?? '',
    /** The machine by which something is asked; undefined for this one. */
    away: (of?: string) => (of && others.length > 0 && of !== machines.data?.here ? of : undefined),
  }
}

/** The address at which the machine that these pages are about is reached itself; '' until it is known. */
export function useOwnAddress() {
  const other = useQuery(queries.machine)
  return machine ? (other.data?.address.split(' ')[0] ?? '') : window.location.origin
}

/** A link to a page of the machine that something is of. */
export function To({
  of,
  to,
  className,
  children,
}: {
  of?: string
  to: string
  className?: string
  children: ReactNode
}) {
  const away = useOffice().away(of)
  return away ? (
    <a href={pagesOf(away) + to} className={className}>
      {children}
    </a>
  ) : (
    <Link to={to} className={className}>
      {children}
    </Link>
  )
}

/** The name of the machine that something is of, where there are several. */
export function Of({ machine }: { machine?: string }) {
  const { others } = useOffice()
  if (!machine || others.length === 0) return null
  return (
    <span className="rounded-full border border-line-2 px-2 font-sans text-[12.5px] font-normal whitespace-nowrap text-ink-2">
      {machine}
    </span>
  )
}

/** How fresh the copy of a machine's records is, in words. */
export const copyOf = (m: Schemas['Machine']) =>
  !m.copy_at
    ? m.behind
      ? t`not read: ${m.behind}`
      : t`being read`
    : m.fresh && m.answers
      ? 'fresh'
      : t`as of ${when(m.copy_at)}${m.behind ? `; ${m.behind}` : m.answers ? '' : t`; it does not answer`}`

/** Says under a list of the whole office which machines are in it, and how fresh each is. */
export function Machines({ missing }: { missing?: Schemas['MissingMachine'][] }) {
  const { others, here } = useOffice()
  if (others.length === 0) return null
  const known = others.filter((m) => m.known)
  return (
    <p className="mb-4 flex flex-wrap items-baseline gap-x-4 gap-y-1 text-[13.5px] text-ink-3" aria-label={t`Machines`}>
      <span>
        <Trans>
          <b className="font-semibold text-ink-2">{here}</b> (here)
        </Trans>
      </span>
      {known.map((m) => (
        <span key={m.name} className={m.answers && m.fresh ? '' : 'text-seal'}>
          <a className="font-semibold text-pen hover:underline" href={pagesOf(m.name) + '/'}>
            {m.name}
          </a>{' '}
          ({copyOf(m)})
        </span>
      ))}
      {others
        .filter((m) => !m.known && m.copy_at)
        .map((m) => (
          <span key={m.name}>
            <Trans>{m.name}: you cannot sign in there</Trans>
          </span>
        ))}
      {missing?.map((m) => (
        <span key={`missing ${m.machine}`} role="alert" className="text-seal">
          <Trans>
            {m.machine} is missing here: {m.problem}
          </Trans>
        </span>
      ))}
    </p>
  )
}
