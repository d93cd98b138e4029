import { plural, t } from '@lingui/core/macro'
import { Plural, Trans } from '@lingui/react/macro'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'

import { api, value } from '../api/client'
import { type Asked, office, queries } from '../api/queries'
import { OneOf } from '../letter/blanks'
import { Bar, Button, Sheet, Wrong } from '../ui/basics'
import { figure, size } from '../ui/format'
import { address } from '../api/where'

/** Writes what is found as a table: shows how far it is, can be stopped, and gives the file. */
export function Export({
  asked,
  sort,
  direction,
  total,
  columns,
  onClose,
}: {
  asked: Asked
  sort: string
  direction: 'up' | 'down'
  total: number
  columns: string[]
  onClose: () => void
}) {
  const [format, setFormat] = useState<'xlsx' | 'csv'>('xlsx')
  const [per, setPer] = useState<'filing' | 'message'>('filing')
  const start = useMutation({
    mutationFn: () =>
      value(
        api.POST('/api/v1/register/exports', {
          body: { ...office, format, per, columns, search: asked, sort, direction },
        }),
      ),
  })
  const id = start.data?.id
  const state = useQuery({
    ...queries.export(id ?? ''),
    refetchInterval: (q) => (q.state.data?.state === 'running' || !q.state.data ? 300 : false),
  })
  const stop = useMutation({
    mutationFn: () => value(api.DELETE('/api/v1/register/exports/{id}', { params: { path: { id: id! } } })),
    onSuccess: () => state.refetch(),
  })
  const x = state.data ?? start.data
  return (
    <Sheet title={t`Export the register`} open onClose={onClose}>
      {!x ? (
        <form
          onSubmit={(e) => {
            e.preventDefault()
            start.mutate()
          }}
        >
          <p className="mb-3">
            <Trans>
              <Plural value={total} one="# filing" other="# filings" />
              {asked.text ? t` with “${asked.text}”` : ''}
              {(asked.folder ?? asked.cabinet) ? t` in ${asked.folder ?? asked.cabinet ?? ''}` : ''}, in your columns.
            </Trans>
          </p>
          <fieldset className="mb-4">
            <legend className="sr-only">
              <Trans>Form</Trans>
            </legend>
            <OneOf
              name="format"
              value={format}
              onChange={(v) => setFormat(v as 'csv')}
              choices={[
                [
                  'xlsx',
                  t`Workbook (XLSX)`,
                  t`With dates, sizes and links as such, a fixed head, and a filter on each column.`,
                ],
                ['csv', t`Plain table (CSV)`, t`For every program. Times as 2026-05-12 14:03:11, sizes in bytes.`],
              ]}
            />
          </fieldset>
          <fieldset className="mb-4">
            <legend className="mb-1 text-sm font-semibold">
              <Trans>One line for</Trans>
            </legend>
            <OneOf
              name="per"
              value={per}
              onChange={(v) => setPer(v as 'message')}
              choices={[
                ['filing', t`each file`],
                ['message', t`each message, with links to all its files`],
              ]}
            />
          </fieldset>
          <Wrong error={start.error} />
          <div className="flex justify-end gap-2">
            <Button onClick={onClose}>
              <Trans>Cancel</Trans>
            </Button>
            <Button look="main" type="submit" disabled={start.isPending}>
              <Trans>Export </Trans>
            </Button>
          </div>
        </form>
      ) : (
        <>
          <p className="mb-2" role="status">
            {x.state === 'running' &&
              t`${figure(x.done)} of ${plural(x.rows, { one: '# line', other: '# lines' })}${x.seconds_left ? t`, about ${plural(x.seconds_left, { one: '# second', other: '# seconds' })} left` : ''}`}
            {x.state === 'done' &&
              t`${plural(x.rows, { one: '# line', other: '# lines' })}, ${size(x.size)}. Ink Tray keeps it for an hour.`}
            {x.state === 'stopped' && t`Stopped. Ink Tray wrote nothing.`}
            {x.state === 'failed' && t`The export failed.`}
          </p>
          <Bar label={t`Written`} done={x.state === 'done' ? 1 : x.done} of={x.state === 'done' ? 1 : x.rows || 1} />
          {x.state === 'failed' && <Wrong error={new Error(x.problem ?? '')} />}
          <Wrong error={stop.error ?? state.error} />
          <div className="mt-5 flex justify-end gap-2">
            {x.state === 'running' ? (
              <Button look="seal" onClick={() => stop.mutate()} disabled={stop.isPending}>
                <Trans>Stop</Trans>
              </Button>
            ) : (
              <Button onClick={onClose}>
                <Trans>Close</Trans>
              </Button>
            )}
            {x.state === 'done' && (
              <a
                className="rounded-lg border border-ink bg-ink px-4 py-2 text-sm font-semibold text-sheet hover:opacity-90"
                href={address(`/api/v1/register/exports/${x.id}/file`)}
                download
              >
                <Trans>Download {x.name}</Trans>
              </a>
            )}
          </div>
        </>
      )}
    </Sheet>
  )
}
