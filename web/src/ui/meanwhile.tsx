import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useQuery, useQueryClient } from '@tanstack/react-query'
import type { ReactNode } from 'react'

import { Problem } from '../api/client'
import { Button, Listing, Wrong } from './basics'

/** Whether somebody else saved since the editing began (RFC 9110 section 13.1.1). */
export const overtaken = (error: unknown) => error instanceof Problem && error.status === 412

const words = (v: unknown): string => {
  if (v === undefined || v === null || v === '') return 'nothing'
  if (typeof v === 'boolean') return v ? 'yes' : 'no'
  if (Array.isArray(v)) return v.length ? v.map(words).join('\n') : 'nothing'
  if (typeof v === 'object') return Object.values(v).map(words).join(' = ')
  return typeof v === 'string' || typeof v === 'number' ? String(v) : JSON.stringify(v)
}

/** Two people edited the same: what is typed stays, both versions are shown, and the person chooses. */
export function Meanwhile<T extends { revision?: number }>({
  error,
  mine,
  look,
  onMine,
  onTheirs,
}: {
  error: unknown
  mine: object
  look: () => Promise<T | undefined>
  onMine: (theirs: T) => void
  onTheirs: () => void
}) {
  const client = useQueryClient()
  const late = overtaken(error)
  const theirs = useQuery({
    queryKey: ['meanwhile', String(error), (error as Error | null)?.stack ?? ''],
    queryFn: async () => (await look()) ?? null,
    enabled: late,
    gcTime: 0,
    staleTime: 0,
  })
  if (!late) return <Wrong error={error} />
  const take = () => {
    void client.invalidateQueries()
    onTheirs()
  }
  return (
    <Overtaken onTheirs={take} onMine={theirs.data ? () => onMine(theirs.data!) : undefined}>
      <Listing query={theirs} empty={(now) => now === null && t`It was removed.`}>
        {(now) => {
          const differ = Object.entries(mine).filter(
            ([k, v]) =>
              k !== 'revision' &&
              k in now! &&
              JSON.stringify(v) !== JSON.stringify((now as Record<string, unknown>)[k]) &&
              words(v) !== words((now as Record<string, unknown>)[k]),
          )
          if (differ.length === 0)
            return (
              <p>
                <Trans>Both say the same.</Trans>
              </p>
            )
          return (
            <table aria-label={t`Both versions`} className="mt-2 w-full text-left text-[14.5px]">
              <thead>
                <tr>
                  <th className="pr-3 font-semibold">
                    <Trans>What</Trans>
                  </th>
                  <th className="pr-3 font-semibold">
                    <Trans>Saved</Trans>
                  </th>
                  <th className="font-semibold">
                    <Trans>Yours</Trans>
                  </th>
                </tr>
              </thead>
              <tbody>
                {differ.map(([k, v]) => (
                  <tr key={k} className="border-t border-line align-top">
                    <th scope="row" className="py-1 pr-3 font-semibold first-letter:uppercase">
                      {k.replaceAll('_', ' ')}
                    </th>
                    <td className="py-1 pr-3 [overflow-wrap:anywhere] whitespace-pre-wrap">
                      {words((now as Record<string, unknown>)[k])}
                    </td>
                    <td className="py-1 [overflow-wrap:anywhere] whitespace-pre-wrap">{words(v)}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          )
        }}
      </Listing>
    </Overtaken>
  )
}

/** The notice itself, with the two ways on. */
export function Overtaken({
  who,
  children,
  onMine,
  onTheirs,
}: {
  who?: string
  children?: ReactNode
  onMine?: () => void
  onTheirs: () => void
}) {
  return (
    <div
      role="alert"
      ref={(e) => e?.scrollIntoView({ block: 'nearest' })}
      className="my-3 rounded-lg bg-ochre-soft px-4 py-3"
    >
      <p className="font-semibold text-ochre">
        <Trans>
          {who ?? t`Someone else`} saved this while you were editing. Your changes are still here and not saved yet.
        </Trans>
      </p>
      {children}
      <div className="mt-3 flex flex-wrap gap-2">
        {onMine && (
          <Button onClick={onMine}>
            <Trans>Keep mine</Trans>
          </Button>
        )}
        <Button onClick={onTheirs}>
          <Trans>Use theirs</Trans>
        </Button>
      </div>
    </div>
  )
}
