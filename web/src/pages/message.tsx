import { useQuery } from '@tanstack/react-query'
import { useParams } from 'react-router'

import { api, value } from '../api/client'
import { Chip, Listing, Page } from '../ui/basics'
import { many, size, when } from '../ui/format'
import { ItemLine } from './parts'

/** Why something of a message was filed, or was not. */
export function Message() {
  const number = Number(useParams().id)
  const query = useQuery({ queryKey: ['message', number], queryFn: () => value(api.GET('/api/v1/messages/{number}', { params: { path: { number } } })) })
  return (
    <Listing query={query}>
      {(x) => (
        <Page title={x.message.subject || 'No subject'} sub={`From ${x.message.sender_name ? `${x.message.sender_name}, ` : ''}${x.message.sender_address}, received ${when(x.message.received_at)} in ${x.message.mailbox}, ${x.message.folder}. ${size(x.message.size)}, ${many(x.message.attachments, 'attachment')}.`}>
          <div className="grid max-w-5xl grid-cols-[minmax(0,1fr)] gap-8 lg:grid-cols-2">
            <section>
              <h2>What was decided</h2>
              {x.decided.length === 0 && <p className="py-3 text-ink-2">Nothing of this message was filed, and nothing waits.</p>}
              {x.decided.map((i) => <ItemLine key={i.id} item={i} />)}
            </section>
            <section>
              <h2>What each rule makes of it</h2>
              {x.rules.length === 0 && <p className="py-3 text-ink-2">No rule is switched on.</p>}
              {x.rules.map((r) => (
                <div key={r.rule} className="border-t border-line py-3 first-of-type:border-0">
                  <p className="flex justify-between gap-3 font-semibold">{r.rule}<Chip word={!r.looks ? 'looks elsewhere' : r.answer === 'yes' ? 'matches' : r.answer === 'no' ? 'does not match' : r.answer} /></p>
                  <p className="text-[14.5px] text-ink-2">{r.looks ? r.reason : 'The rule does not look into this mailbox or folder.'}</p>
                </div>
              ))}
            </section>
          </div>
        </Page>
      )}
    </Listing>
  )
}
