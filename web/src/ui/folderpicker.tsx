import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { useState } from 'react'

import { api, value } from '../api/client'
import { Button, Field, Listing, Sheet, Wrong } from './basics'

/** Chooses a folder of the machine that runs Ink Tray. */
export function FolderPicker({ path, onChoose }: { path: string; onChoose: (path: string) => void }) {
  const [open, setOpen] = useState(false)
  return (
    <>
      <Button onClick={() => setOpen(true)}>Choose…</Button>
      {open && (
        <Browse
          from={path}
          onClose={() => setOpen(false)}
          onChoose={(p) => {
            setOpen(false)
            onChoose(p)
          }}
        />
      )}
    </>
  )
}

function Browse({ from, onClose, onChoose }: { from: string; onClose: () => void; onChoose: (path: string) => void }) {
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
    <Sheet title="Choose a folder" open onClose={onClose}>
      <p className="mb-2 rounded-lg bg-sheet-2 px-3 py-2 [overflow-wrap:anywhere]">
        <span className="text-sm text-ink-3">On the machine that runs Ink Tray: </span>
        <b className="font-semibold">{here}</b>
      </p>
      <Wrong error={query.error} />
      {query.error && from !== '' && at === from && <Button onClick={() => setAt('')}>Begin at the top</Button>}
      <Listing query={query}>
        {(f) => (
          <ul aria-label="Folders" className="mb-4 max-h-64 overflow-auto rounded-lg border border-line" tabIndex={0}>
            {f.above !== undefined && (
              <li className="border-b border-line">
                <button
                  type="button"
                  className="w-full px-3 py-1.5 text-left text-pen hover:bg-sheet-2"
                  onClick={() => setAt(f.above!)}
                >
                  ↑ the folder above
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
            {f.folders.length === 0 && <li className="px-3 py-1.5 text-ink-3">There are no folders in it.</li>}
          </ul>
        )}
      </Listing>
      <Field
        label="New folder in it"
        hint="Leave empty to use the folder itself. Ink Tray creates a new folder when you add the cabinet."
        value={made}
        onChange={(e) => setMade(e.target.value.replace(/[\\/]/g, ''))}
      />
      <div className="flex justify-end gap-2">
        <Button onClick={onClose}>Cancel</Button>
        <Button look="main" disabled={!here} onClick={() => onChoose(made.trim() ? within(made.trim()) : here)}>
          Use this folder
        </Button>
      </div>
    </Sheet>
  )
}
