import { t } from '@lingui/core/macro'
import { Plural, Trans } from '@lingui/react/macro'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'

import { api, value } from '../api/client'
import { Button, Chip, Listing, Sheet, Wrong } from '../ui/basics'

export type Undone = { pass: number } | { item: number; name: string }

/** Shows what taking back would do, and does it. */
export function Undo({
  what,
  onClose,
  onDone,
}: {
  what: Undone
  onClose: () => void
  onDone?: (pass: number) => void
}) {
  const client = useQueryClient()
  const of = 'pass' in what
  const number = of ? what.pass : what.item
  const path = { params: { path: { number } } }
  const look = useQuery({
    queryKey: ['undo', of, number],
    gcTime: 0,
    queryFn: () =>
      value(of ? api.GET('/api/v1/passes/{number}/undo', path) : api.GET('/api/v1/items/{number}/undo', path)),
    retry: false,
  })
  const undo = useMutation({
    mutationFn: () =>
      value(of ? api.POST('/api/v1/passes/{number}/undo', path) : api.POST('/api/v1/items/{number}/undo', path)),
    onSuccess: (p) => {
      void client.invalidateQueries()
      onClose()
      onDone?.(p.id)
    },
  })
  return (
    <Sheet title={of ? t`Take back what pass ${number} filed?` : t`Take “${what.name}” back?`} open onClose={onClose}>
      <Listing query={look}>
        {(p) => (
          <>
            <ul className="mb-3 list-disc pl-5">
              {p.takes > 0 ? (
                <li>
                  <Trans>
                    <Plural value={p.takes} one="# file is" other="# files are" /> taken out of the cabinet and kept for
                    a while.
                  </Trans>
                </li>
              ) : (
                !p.returns &&
                !p.changes?.length && (
                  <li>
                    <Trans>No file is taken back.</Trans>
                  </li>
                )
              )}
              {p.keeps > 0 && (
                <li>
                  <Trans>
                    <Plural value={p.keeps} one="# filing keeps its file" other="# filings keep their files" />; see why
                    below.
                  </Trans>
                </li>
              )}
              {p.returns > 0 && (
                <li>
                  <Trans>
                    <Plural value={p.returns} one="# message is" other="# messages are" /> moved back to where they
                    were.
                  </Trans>
                </li>
              )}
              {!!p.changes?.length && (
                <li>
                  <Trans>Taken back: {p.changes.join('; ')}.</Trans>
                </li>
              )}
              {p.stays.length > 0 && (
                <li>
                  <Trans>What stays done: {p.stays.join('; ')}.</Trans>
                </li>
              )}
              {p.lines.length > 0 && (
                <li>
                  <Trans>No rule files it again until you say so.</Trans>
                </li>
              )}
            </ul>
            <div
              className="max-h-64 overflow-auto border-t border-line text-[14px]"
              tabIndex={0}
              role="region"
              aria-label={t`Files`}
            >
              {p.lines.map((l, i) => (
                <div key={i} className="flex items-start justify-between gap-3 border-b border-line py-1.5">
                  <span className="[overflow-wrap:anywhere]">
                    {l.path}
                    {!l.takes && (
                      <small className="block text-[13.5px] text-ink-2 first-letter:uppercase">{l.reason}.</small>
                    )}
                  </span>
                  <Chip word={l.takes ? 'taken back' : 'stays'} />
                </div>
              ))}
              {p.takes + p.keeps > p.lines.length && (
                <p className="py-1.5 text-ink-3">
                  <Trans>And {p.takes + p.keeps - p.lines.length} more.</Trans>
                </p>
              )}
            </div>
          </>
        )}
      </Listing>
      <Wrong error={undo.error} />
      <div className="mt-5 flex justify-end gap-2">
        <Button onClick={onClose}>
          <Trans>Keep it</Trans>
        </Button>
        <Button look="seal" disabled={!look.data || undo.isPending} onClick={() => undo.mutate()}>
          <Trans>Take back</Trans>
        </Button>
      </div>
    </Sheet>
  )
}
