import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'

import { api, ifMatch, type Schemas, value } from '../api/client'
import { queries } from '../api/queries'
import { TextList } from '../letter/blanks'
import { Button, Chip, Listing, Sheet, Tick } from '../ui/basics'
import { End, useSettings } from '../ui/form'

/** Whom the office believes. */
export function Trust() {
  const query = useQuery(queries.trust)
  const [editing, setEditing] = useState<(Schemas['TrustSettings'] & { revision: number }) | null>(null)
  return (
    <section className="mb-10 max-w-4xl">
      <div className="mb-2 flex items-center justify-between">
        <h2>
          <Trans>Verified senders</Trans>
        </h2>
        {query.data && (
          <Button
            onClick={() =>
              setEditing({
                servers: query.data.servers,
                replies: query.data.replies,
                correspondents: query.data.correspondents,
                revision: query.data.revision,
              })
            }
          >
            <Trans>Edit trusted servers</Trans>
          </Button>
        )}
      </div>
      <p className="mb-2 text-ink-2">
        <Trans>
          Anyone can write any name and address into a message. A sender counts as verified if a signature or a trusted
          mail server proves it.
        </Trans>
      </p>
      <Listing query={query}>
        {(trust) => (
          <dl className="grid grid-cols-[auto_minmax(0,1fr)] gap-x-6 gap-y-1.5 border-t border-line pt-3">
            <dt className="text-ink-3">
              <Trans>Trusted mail servers</Trans>
            </dt>
            <dd className="[overflow-wrap:anywhere]">
              <Trans>
                {trust.servers.length ? trust.servers.join(', ') : t`none`}. Ink Tray checks the signatures of all other
                mail itself.
              </Trans>
            </dd>
            <dt className="text-ink-3">
              <Trans>Replies go</Trans>
            </dt>
            <dd>{trust.replies ? t`to verified senders only` : t`to every sender`}</dd>
            <dt className="text-ink-3">
              <Trans>Correspondents are recognised</Trans>
            </dt>
            <dd>{trust.correspondents ? t`only if the sender is verified` : t`by their address alone`}</dd>
            <dt className="text-ink-3">
              <Trans>Virus scanner</Trans>
            </dt>
            <dd className="[overflow-wrap:anywhere]">
              {trust.scanner ? (
                <>
                  {trust.scanner} <Chip word={trust.scanner_answers ? 'answers' : 'failed'} />{' '}
                  <span className="text-[14.5px] text-ink-3">{trust.scanner_says}</span>
                </>
              ) : (
                t`none: start the service with --virus-scanner to use one`
              )}
            </dd>
          </dl>
        )}
      </Listing>
      {editing && <TrustSheet was={editing} onClose={() => setEditing(null)} />}
    </section>
  )
}

function TrustSheet({ was, onClose }: { was: Schemas['TrustSettings'] & { revision: number }; onClose: () => void }) {
  const values = { servers: was.servers, replies: was.replies, correspondents: was.correspondents }
  const form = useSettings<typeof values, unknown>({
    values,
    revision: was.revision,
    save: (body, revision) => value(api.PUT('/api/v1/trust', { params: { header: ifMatch(revision) }, body })),
    saved: onClose,
  })
  const { now, set } = form
  return (
    <Sheet title={t`Verified senders`} open onClose={onClose}>
      <form onSubmit={form.submit}>
        <TextList
          label={t`Your own mail servers, by the first name in their Authentication-Results field`}
          values={now.servers}
          onChange={(servers) => set('servers', servers)}
        />
        <p className="mt-1 mb-4 text-sm text-ink-3">
          <Trans>Such as mx.brackwater.example. Ink Tray reads only the lines that these servers added.</Trans>
        </p>
        <div className="mb-4">
          <Tick
            label={t`reply to verified senders only`}
            checked={now.replies}
            onChange={(replies) => set('replies', replies)}
          />
          <Tick
            label={t`recognise correspondents only if the sender is verified`}
            checked={now.correspondents}
            onChange={(correspondents) => set('correspondents', correspondents)}
          />
        </div>
        <End of={form} label={t`Save`} onClose={onClose} mine={now} look={() => value(api.GET('/api/v1/trust'))} />
      </form>
    </Sheet>
  )
}
