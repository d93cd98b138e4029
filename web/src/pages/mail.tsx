import { useInfiniteQuery, useQuery } from '@tanstack/react-query'
import { Link, useSearchParams } from 'react-router'

import { api, value } from '../api/client'
import { Button, Listing, Page } from '../ui/basics'
import { many, size, when } from '../ui/format'

const page = 50

/** Looks into the mailboxes: what is known of their messages. */
export function Mail() {
  const [search, setSearch] = useSearchParams()
  const mailbox = search.get('mailbox') ?? ''
  const text = search.get('text') ?? ''
  const unfiled = search.get('unfiled') === 'yes'
  const set = (key: string, v: string) => setSearch((s) => { if (v) s.set(key, v); else s.delete(key); return s }, { replace: true })
  const mailboxes = useQuery({ queryKey: ['mailboxes'], queryFn: () => value(api.GET('/api/v1/mailboxes')) })
  const query = useInfiniteQuery({
    queryKey: ['messages', mailbox, text, unfiled],
    queryFn: ({ pageParam }) => value(api.GET('/api/v1/messages', { params: { query: { mailbox: mailbox || undefined, text: text || undefined, unfiled: unfiled || undefined, after: pageParam || undefined, most: page } } })),
    initialPageParam: 0,
    getNextPageParam: (last) => (last.length === page ? last.at(-1)!.id : undefined),
  })
  return (
    <Page title="Mail" sub="The messages that are known, and for each why something of it was filed, or was not.">
      <div className="mb-4 flex flex-wrap items-end gap-3">
        <label className="text-sm font-semibold">Mailbox
          <select className="field mt-1 block !w-auto font-normal" value={mailbox} onChange={(e) => set('mailbox', e.target.value)}>
            <option value="">all</option>
            {mailboxes.data?.map((m) => <option key={m.id} value={m.id}>{m.name}</option>)}
          </select>
        </label>
        <label className="min-w-56 flex-1 text-sm font-semibold">Words in subject, sender or folder<input className="field mt-1 font-normal" type="search" value={text} onChange={(e) => set('text', e.target.value)} /></label>
        <label className="flex items-center gap-2 pb-2"><input type="checkbox" className="size-4 accent-[var(--pen)]" checked={unfiled} onChange={(e) => set('unfiled', e.target.checked ? 'yes' : '')} />only those of which nothing was filed</label>
      </div>
      <Listing query={query} empty={(d) => d.pages[0].length === 0 && 'No message is known that fits.'}>
        {(d) => (
          <>
            <table className="w-full table-fixed text-left text-[14.5px]">
              <thead><tr className="border-b border-line-2 text-sm text-ink-3"><th className="hidden w-28 py-2 font-semibold sm:table-cell">Received</th><th className="py-2 font-semibold">Message</th><th className="hidden w-52 py-2 font-semibold md:table-cell">From</th><th className="hidden w-36 py-2 font-semibold lg:table-cell">Mailbox, folder</th><th className="w-24 py-2 text-right font-semibold">Attached</th></tr></thead>
              <tbody>
                {d.pages.flat().map((m) => (
                  <tr key={m.id} className="border-b border-line align-top">
                    <td className="hidden py-2 text-ink-3 sm:table-cell"><time dateTime={m.received_at}>{when(m.received_at)}</time></td>
                    <td className="truncate py-2 pr-3"><Link to={`/messages/${m.id}`} className="font-semibold hover:underline">{m.subject || 'No subject'}</Link><span className="block truncate text-[13px] text-ink-3 md:hidden">{m.sender_name || m.sender_address}</span></td>
                    <td className="hidden truncate py-2 pr-3 text-ink-2 md:table-cell" title={m.sender_address}>{m.sender_name || m.sender_address}</td>
                    <td className="hidden truncate py-2 text-ink-3 lg:table-cell">{m.mailbox}{m.folder !== 'INBOX' && `, ${m.folder}`}</td>
                    <td className="py-2 text-right text-ink-3">{m.attachments ? many(m.attachments, 'file') : '–'}<span className="block text-[13px]">{size(m.size)}</span></td>
                  </tr>
                ))}
              </tbody>
            </table>
            {query.hasNextPage && <p className="mt-4"><Button onClick={() => void query.fetchNextPage()} disabled={query.isFetchingNextPage}>Older messages</Button></p>}
          </>
        )}
      </Listing>
    </Page>
  )
}
