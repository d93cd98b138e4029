import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { keepPreviousData, useMutation, useQuery } from '@tanstack/react-query'
import { type ComponentProps, useState } from 'react'

import { api, type Schemas, value } from '../api/client'
import { Button, Field, Listing, Sheet, Wrong } from './basics'

/** A place whose folders can be looked at. */
export type Shelf = {
  /** What it is, before its path. */
  says: string
  /** Lists a folder. With make it first makes one of this name in it, and lists that. */
  list: (at: string, make?: string) => Promise<Schemas['LocalFolder']>
  /** For a server: the address of its topmost folder. Folders are then made here, not when the form is sent. */
  top?: string
}

const thisMachine = (): Shelf => ({
  says: t`On the machine that runs Ink Tray: `,
  list: (at) => value(api.GET('/api/v1/local-folders', { params: { query: { path: at || undefined } } })),
})

type Choice = {
  path: string
  /** Where to look; this machine if nothing is given. */
  on?: Shelf
  /** What Ink Tray does with a folder that is not there yet; without it, only folders that are there can be chosen. */
  creates?: string
  onChoose: (path: string) => void
}

/** A field for the path of a folder, with a way to choose one. */
export function FolderField({ path, on, creates, onChoose, ...field }: ComponentProps<typeof Field> & Choice) {
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
          on={on ?? thisMachine()}
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
  on,
  creates,
  onClose,
  onChoose,
}: {
  from: string
  on: Shelf
  creates?: string
  onClose: () => void
  onChoose: (path: string) => void
}) {
  const [at, setAt] = useState(from)
  const [made, setMade] = useState('')
  const query = useQuery({
    queryKey: ['folders', on.says, at],
    queryFn: () => on.list(at),
    enabled: at !== '' || on.top === undefined,
    placeholderData: keepPreviousData,
    retry: false,
    gcTime: 0,
    // Each look signs in at a server, so only a person asks for one.
    staleTime: Infinity,
    refetchOnWindowFocus: false,
    refetchOnReconnect: false,
  })
  const here = query.data?.path ?? ''
  const make = useMutation({
    mutationFn: (name: string) => on.list(here, name),
    onSuccess: (f) => onChoose(f.path),
  })
  const use = () => {
    const name = made.trim()
    if (name && on.top !== undefined) make.mutate(name)
    else onChoose(name ? within(name) : here)
  }
  const within = (name: string) =>
    `${here.replace(/[\\/]$/, '')}${here.includes('\\') ? '\\' : '/'}${on.top === undefined ? name : encodeURIComponent(name)}`
  return (
    <Sheet title={t`Choose a folder`} open onClose={onClose}>
      <p className="mb-2 rounded-lg bg-sheet-2 px-3 py-2 [overflow-wrap:anywhere]">
        <span className="text-sm text-ink-3">{on.says}</span>
        <b className="font-semibold">{here}</b>
      </p>
      <Wrong error={make.error ?? query.error} />
      {at === '' && on.top !== undefined && (
        <p className="mb-4 text-ink-2">
          <Trans>Enter the address of the server first.</Trans>
        </p>
      )}
      {query.error && at !== (on.top ?? '') && (
        <Button onClick={() => setAt(on.top ?? '')}>
          <Trans>Begin at the top</Trans>
        </Button>
      )}
      {(at !== '' || on.top === undefined) && (
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
      )}
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
        <Button look="main" disabled={!here || make.isPending} onClick={use}>
          <Trans>Use this folder</Trans>
        </Button>
      </div>
    </Sheet>
  )
}
