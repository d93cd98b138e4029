import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { type ComponentProps, useState } from 'react'

import { api, value } from '../api/client'
import { Button, Field, Listing, Sheet, Wrong } from './basics'

type Choice = {
  path: string
  /** What Ink Tray does with a folder that is not there yet; without it, only folders that are there can be chosen. */
  creates?: string
  onChoose: (path: string) => void
}

/** A field for the path of a folder of the machine that runs Ink Tray, with a way to choose one. */
export function FolderField({ path, creates, onChoose, ...field }: ComponentProps<typeof Field> & Choice) {
  const [open, setOpen] = useState(false)
  return (
    <div className="grid grid-cols-[1fr_auto] items-start gap-3">
      <Field {...field} />
      <Button className="mt-6" onClick={() => setOpen(true)}>
        <Trans>Choose…</Trans>
      </Button>
      {open && (
        <Browse
          from={path}
          creates={creates}
          onClose={() => setOpen(false)}
          onChoose={(p) => {
            setOpen(false)
            onChoose(p)
          }}
        />
      )}
    </div>
  )
}

function Browse({
  from,
  creates,
  onClose,
  onChoose,
}: {
  from: string
  creates?: string
  onClose: () => void
  onChoose: (path: string) => void
}) {
  const [at, setAt] = useState(from)
  const [made, setMade] = useState('')
  const query = useQuery({
    queryKey: ['local folders', at],
    queryFn: () => value(api.GET('/api/v1/local-folders', { params: { query: { path: at || undefined } } })),
    placeholderData: keepPreviousData,
    retry: false,
    gcTime: 0,
  })
  const here = query.data?.path ?? ''
  const within = (name: string) => `${here.replace(/[\\/]$/, '')}${here.includes('\\') ? '\\' : '/'}${name}`
  return (
    <Sheet title={t`Choose a folder`} open onClose={onClose}>
      <p className="mb-2 rounded-lg bg-sheet-2 px-3 py-2 [overflow-wrap:anywhere]">
        <span className="text-sm text-ink-3">
          <Trans>On the machine that runs Ink Tray: </Trans>
        </span>
        <b className="font-semibold">{here}</b>
      </p>
      <Wrong error={query.error} />
      {query.error && from !== '' && at === from && (
        <Button onClick={() => setAt('')}>
          <Trans>Begin at the top</Trans>
        </Button>
      )}
      <Listing query={query}>
        {(f) => (
          <ul
            aria-label={t`Folders`}
            className="mb-4 max-h-64 overflow-auto rounded-lg border border-line"
            tabIndex={0}
          >
            {f.above !== undefined && (
              <li className="border-b border-line">
                <button
                  type="button"
                  className="w-full px-3 py-1.5 text-left text-pen hover:bg-sheet-2"
                  onClick={() => setAt(f.above!)}
                >
                  <Trans>↑ the folder above</Trans>
                </button>
              </li>
            )}
            {f.folders.map((name) => (
              <li key={name} className="border-b border-line last:border-0">
                <button
                  type="button"
                  className="w-full px-3 py-1.5 text-left hover:bg-sheet-2"
                  onClick={() => setAt(within(name))}
                >
                  {name}
                </button>
              </li>
            ))}
            {f.more && (
              <li className="px-3 py-1.5 text-ink-3">
                <Trans>There are more folders. Type the path of the others.</Trans>
              </li>
            )}
            {f.folders.length === 0 && (
              <li className="px-3 py-1.5 text-ink-3">
                <Trans>There are no folders in it.</Trans>
              </li>
            )}
          </ul>
        )}
      </Listing>
      {creates && (
        <Field
          label={t`New folder in it`}
          hint={t`Leave empty to use the folder itself. ${creates}`}
          value={made}
          onChange={(e) => setMade(e.target.value.replace(/[\\/]/g, ''))}
        />
      )}
      <div className="flex justify-end gap-2">
        <Button onClick={onClose}>
          <Trans>Cancel</Trans>
        </Button>
        <Button look="main" disabled={!here} onClick={() => onChoose(made.trim() ? within(made.trim()) : here)}>
          <Trans>Use this folder</Trans>
        </Button>
      </div>
    </Sheet>
  )
}
