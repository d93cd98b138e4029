import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'

import { api, type Schemas, value } from '../api/client'
import { Button, Chip, Listing, Page, Wrong } from '../ui/basics'
import { many, size, when } from '../ui/format'
import { MessageHead } from './parts'

export function Tray() {
  const client = useQueryClient()
  const query = useQuery({ queryKey: ['tray'], queryFn: () => value(api.GET('/api/v1/tray')) })
  const done = { onSuccess: () => client.invalidateQueries({ queryKey: ['tray'] }) }
  const again = useMutation({ mutationFn: (items: number[]) => value(api.POST('/api/v1/tray/again', { body: { items } })), ...done })
  const aside = useMutation({ mutationFn: (items: number[]) => value(api.POST('/api/v1/tray/aside', { body: { items } })), ...done })
  const settle = useMutation({ mutationFn: (number: number) => value(api.DELETE('/api/v1/tray/notices/{number}', { params: { path: { number } } })), ...done })
  const groups = new Map<string, Schemas['TrayItem'][]>()
  for (const i of query.data?.items ?? []) groups.set(i.item.reason, [...(groups.get(i.item.reason) ?? []), i])
  return (
    <Page title="Tray" sub={query.data?.count ? `${many(query.data.count, 'matter waits', 'matters wait')} for you.` : 'What needs a person waits here, with the reason and the ways on.'}>
      <Wrong error={again.error ?? aside.error ?? settle.error} />
      <Listing query={query} empty={(t) => t.count === 0 && 'The tray is empty. Nothing waits for you.'}>
        {(t) => (
          <div className="max-w-4xl">
            {t.notices.map((n) => (
              <section key={n.id} className="mb-4 rounded-xl border border-line bg-sheet-2 p-5">
                <p className="font-semibold">{n.text}</p>
                <p className="mt-1 text-ink-2">{n.advice}</p>
                <p className="mt-3 flex items-center justify-between text-sm text-ink-3">since {when(n.made_at)}<Button onClick={() => settle.mutate(n.id)}>Seen</Button></p>
              </section>
            ))}
            {[...groups].map(([reason, items]) => (
              <section key={reason} className="mb-4 rounded-xl border border-line bg-sheet-2 p-5">
                <div className="flex flex-wrap items-start justify-between gap-3">
                  <div className="min-w-0 flex-1">
                    <p className="font-semibold first-letter:uppercase">{reason}.</p>
                    {items[0].item.advice && <p className="mt-1 text-ink-2">{items[0].item.advice}</p>}
                  </div>
                  <div className="flex gap-2">
                    <Button onClick={() => aside.mutate(items.map((i) => i.item.id!))}>Set aside</Button>
                    <Button look="main" onClick={() => again.mutate(items.map((i) => i.item.id!))}>{items.length > 1 ? 'Try all again' : 'Try again'}</Button>
                  </div>
                </div>
                {items.map((i) => (
                  <div key={i.item.id} className="mt-3 border-t border-line pt-3">
                    <MessageHead message={i.message} time={when(i.message.received_at)} />
                    <p className="mt-2 ml-3 flex justify-between gap-3 border-l-2 border-line-2 pl-3"><span>{i.item.name} <span className="text-[13.5px] text-ink-3">{size(i.item.size)}{i.item.rule && ` · rule “${i.item.rule}”`}</span></span><Chip word={i.item.verdict} /></p>
                  </div>
                ))}
              </section>
            ))}
          </div>
        )}
      </Listing>
    </Page>
  )
}
