import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'

import { api, type Schemas, value } from '../api/client'
import { TextList, Tick } from '../letter/blanks'
import { Button, Chip, Listing, Sheet } from '../ui/basics'
import { Meanwhile } from '../ui/meanwhile'

/** Whom the office believes. */
export function Trust() {
  const query = useQuery({ queryKey: ['trust'], queryFn: () => value(api.GET('/api/v1/trust')) })
  const [editing, setEditing] = useState<(Schemas['TrustSettings'] & { revision: number }) | null>(null)
  return (
    <section className="mb-10 max-w-4xl">
      <div className="mb-2 flex items-center justify-between"><h2>Trust</h2>{query.data && <Button onClick={() => setEditing({ servers: query.data.servers, replies: query.data.replies, correspondents: query.data.correspondents, revision: query.data.revision })}>Change whom to trust</Button>}</div>
      <p className="mb-2 text-ink-2">Anybody can write any name and address into a message. A sender is verified where a signature or a trusted server proves it.</p>
      <Listing query={query}>
        {(t) => (
          <dl className="grid grid-cols-[auto_minmax(0,1fr)] gap-x-6 gap-y-1.5 border-t border-line pt-3">
            <dt className="text-ink-3">Reports are believed of</dt><dd className="[overflow-wrap:anywhere]">{t.servers.length ? t.servers.join(', ') : 'no server'}; else signatures are checked here</dd>
            <dt className="text-ink-3">Replies are sent</dt><dd>{t.replies ? 'to verified senders only' : 'whether or not the sender is verified'}</dd>
            <dt className="text-ink-3">Correspondents are recognised</dt><dd>{t.correspondents ? 'where the sender is verified' : 'by the address alone'}</dd>
            <dt className="text-ink-3">Virus scanner</dt><dd className="[overflow-wrap:anywhere]">{t.scanner ? <>{t.scanner} <Chip word={t.scanner_answers ? 'answers' : 'failed'} /> <span className="text-[14.5px] text-ink-3">{t.scanner_says}</span></> : 'none is asked; one is named when the service is started'}</dd>
          </dl>
        )}
      </Listing>
      {editing && <TrustSheet was={editing} onClose={() => setEditing(null)} />}
    </section>
  )
}

function TrustSheet({ was, onClose }: { was: Schemas['TrustSettings'] & { revision: number }; onClose: () => void }) {
  const client = useQueryClient()
  const [d, setD] = useState(was)
  const save = useMutation({ mutationFn: () => value(api.PUT('/api/v1/trust', { params: { header: { 'If-Match': `"${d.revision}"` } }, body: { servers: d.servers, replies: d.replies, correspondents: d.correspondents } })), onSuccess: () => { void client.invalidateQueries(); onClose() } })
  return (
    <Sheet title="Whom to trust" open onClose={onClose}>
      <form onSubmit={(e) => { e.preventDefault(); save.mutate() }}>
        <TextList label="The office’s own mail servers, by the name that stands first in Authentication-Results" values={d.servers} onChange={(servers) => setD({ ...d, servers })} />
        <p className="mt-1 mb-4 text-sm text-ink-3">Such as mx.brackwater.example. Only what stands above the line by which a message came in from outside is believed.</p>
        <div className="mb-4"><Tick label="reply to verified senders only" checked={d.replies} onChange={(replies) => setD({ ...d, replies })} /><Tick label="recognise correspondents only where the sender is verified" checked={d.correspondents} onChange={(correspondents) => setD({ ...d, correspondents })} /></div>
        <Meanwhile error={save.error} mine={{ servers: d.servers, replies: d.replies, correspondents: d.correspondents }} look={() => value(api.GET('/api/v1/trust'))} onMine={(t) => { setD({ ...d, revision: t.revision }); save.reset() }} onTheirs={onClose} />
        <div className="flex justify-end gap-2"><Button onClick={onClose}>Cancel</Button><Button look="main" type="submit" disabled={save.isPending}>Save</Button></div>
      </form>
    </Sheet>
  )
}
