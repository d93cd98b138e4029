import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'

import { api, ifMatch, type Schemas, value } from '../api/client'
import { queries } from '../api/queries'
import { Button, Field, Listing, Sheet, Tick } from '../ui/basics'
import { End, useSettings } from '../ui/form'
import { written } from '../ui/language'

type Set = Schemas['ScansSettings']

/** How the text in scanned papers is read. */
export function Scans() {
  const query = useQuery(queries.scans)
  const [editing, setEditing] = useState<Schemas['Scans'] | null>(null)
  return (
    <section className="mb-10 max-w-4xl" aria-label={t`Scans`}>
      <div className="mb-2 flex items-center justify-between">
        <h2>
          <Trans>Scans</Trans>
        </h2>
        {query.data && (
          <Button onClick={() => setEditing(query.data)}>
            <Trans>Change how scans are read</Trans>
          </Button>
        )}
      </div>
      <p className="mb-2 text-ink-2">
        <Trans>
          Ink Tray can read the text in scanned papers and photographed pages. Rules use it in conditions, values and
          names.
        </Trans>
      </p>
      <Listing query={query}>
        {(s) => (
          <dl className="grid grid-cols-[auto_minmax(0,1fr)] gap-x-6 gap-y-1.5 border-t border-line pt-3">
            <dt className="text-ink-3">
              <Trans>Scans are read</Trans>
            </dt>
            <dd className="[overflow-wrap:anywhere]">
              {!s.tesseract
                ? t`no: ${s.absent ?? ''}. On Debian: apt install tesseract-ocr tesseract-ocr-deu`
                : s.read
                  ? t`by Tesseract ${s.tesseract}`
                  : t`no, it is switched off`}
            </dd>
            {s.tesseract && s.read && (
              <>
                <dt className="text-ink-3">
                  <Trans>Languages</Trans>
                </dt>
                <dd className="[overflow-wrap:anywhere]">
                  {s.used.join(', ')}
                  {s.languages.length === 0 && t`: all that are installed`}
                </dd>
                <dt className="text-ink-3">
                  <Trans>Pages of one file</Trans>
                </dt>
                <dd>
                  <Trans>{s.pages} at most</Trans>
                </dd>
              </>
            )}
          </dl>
        )}
      </Listing>
      {editing && <ScansSheet was={editing} onClose={() => setEditing(null)} />}
    </section>
  )
}

function ScansSheet({ was, onClose }: { was: Schemas['Scans']; onClose: () => void }) {
  const form = useSettings<Set, unknown>({
    values: { read: was.read, languages: was.languages, pages: was.pages },
    revision: was.revision,
    save: (body, revision) =>
      value(
        api.PUT('/api/v1/scans', {
          params: { header: ifMatch(revision) },
          body,
        }),
      ),
    saved: onClose,
  })
  const { now, set } = form
  return (
    <Sheet title={t`How scans are read`} open onClose={onClose}>
      <form onSubmit={form.submit}>
        <Tick label={t`read the text in scans`} checked={now.read} onChange={(read) => set('read', read)} />
        <p className="mt-4 mb-1 text-sm font-semibold">
          <Trans>Languages; choose none to use all that are installed</Trans>
        </p>
        {was.installed.length === 0 && (
          <p className="text-sm text-ink-3">
            <Trans>No language is installed.</Trans>
          </p>
        )}
        <div className="mb-4 grid grid-cols-2">
          {was.installed.map((l) => (
            <Tick
              key={l}
              label={nameOf(l)}
              checked={now.languages.includes(l)}
              onChange={(on) => set('languages', on ? [...now.languages, l] : now.languages.filter((x) => x !== l))}
            />
          ))}
        </div>
        <Field
          label={t`Pages of one file, at most`}
          type="number"
          min={1}
          max={100}
          required
          {...form.bind('pages', { valueAsNumber: true })}
        />
        <p className="mt-1 mb-4 text-sm text-ink-3">
          <Trans>A page takes some seconds. Files are read one after another.</Trans>
        </p>
        <End of={form} label={t`Save`} onClose={onClose} mine={now} look={() => value(api.GET('/api/v1/scans'))} />
      </form>
    </Sheet>
  )
}

/** What Tesseract calls a language, in words where the browser knows it. */
const nameOf = (code: string) => {
  try {
    const name = new Intl.DisplayNames([written, 'en'], { type: 'language' }).of(code.slice(0, 3))
    return name && name !== code.slice(0, 3) ? `${name} (${code})` : code
  } catch {
    return code
  }
}
