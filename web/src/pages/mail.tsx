import { plural, t } from '@lingui/core/macro'
import { Plural, Trans } from '@lingui/react/macro'
import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { type KeyboardEvent, useEffect, useRef, useState } from 'react'
import { Link, useNavigate } from 'react-router'

import { api, octets, Problem, type Schemas, value } from '../api/client'
import { keys, queries } from '../api/queries'
import { useAddress, useTyped } from '../ui/address'
import { Button, Listing, Page, Sheet, Tick, Wrong } from '../ui/basics'
import { figure, size, when } from '../ui/format'
import { labelOf } from '../ui/labels'
import { ChangeSheet, Doing, draggable, FileSheet, Folders, type InHand, useFiling } from './byhand'
import { MarkSheet } from './topicmarks'
import { Undo } from './undo'

const page = 50
type Sheet = { file: InHand; whole?: boolean } | { change: number[] } | { mark: number[] }

/** Looks into the mailboxes, and files by hand. */
export function Mail() {
  const [get, change] = useAddress()
  const [chosen, setChosen] = useState<Set<number>>(new Set())
  const [sheet, setSheet] = useState<Sheet | null>(null)
  const [doing, setDoing] = useState<number[]>([])
  const [undoing, setUndoing] = useState<number | null>(null)
  const client = useQueryClient()
  const set = (changes: Record<string, string>) => {
    setChosen(new Set())
    change(changes, true)
  }
  const [mailbox, folder, text] = ['mailbox', 'folder', 'text'].map(get)
  const [typed, setTyped] = useTyped(text, (text) => set({ text: text }), 400)
  const [unfiled, attachments, unread] = ['unfiled', 'attachments', 'unread'].map((k) => get(k) === 'yes')
  const mailboxes = useQuery(queries.mailboxes)
  const folders = useQuery(queries.folders(mailbox ?? ''))
  const cabinets = useQuery(queries.cabinets)
  const query = useInfiniteQuery({
    queryKey: [...(mailbox ? keys.look : keys.messages), mailbox, folder, text, unfiled, attachments, unread],
    // a mail server is asked no oftener than people want to know
    ...(mailbox && { staleTime: 60_000, refetchOnWindowFocus: false }),
    queryFn: async ({
      pageParam,
    }): Promise<{ messages: Schemas['Message'][]; next?: number; looked?: number; total?: number }> => {
      if (mailbox)
        return value(
          api.GET('/api/v1/mailboxes/{id}/look', {
            params: {
              path: { id: mailbox },
              query: {
                folder: folder || undefined,
                text: text || undefined,
                unfiled,
                attachments,
                unread,
                before: pageParam || undefined,
                most: page,
              },
            },
          }),
        )
      const messages = await value(
        api.GET('/api/v1/messages', {
          params: {
            query: {
              text: text || undefined,
              unfiled: unfiled || undefined,
              after: pageParam || undefined,
              most: page,
            },
          },
        }),
      )
      return { messages, next: messages.length === page ? messages.at(-1)!.id : undefined }
    },
    initialPageParam: 0,
    getNextPageParam: (last) => last.next,
  })
  const begun = (pass: number) => {
    setDoing((d) => [pass, ...d].slice(0, 3))
    setChosen(new Set())
  }
  const filing = useFiling()
  const drop = (cabinet: string) => (hand: InHand, into: string) =>
    filing.mutate({ hand, cabinet, folder: into }, { onSuccess: (p) => begun(p.id) })
  const rows = query.data?.pages.flatMap((p) => p.messages) ?? []
  const first = query.data?.pages[0]
  const hand = (m: Schemas['Message']): InHand =>
    chosen.has(m.id) ? [...chosen].map((number) => ({ number })) : [{ number: m.id }]
  const toggle = (id: number) =>
    setChosen((c) => {
      const n = new Set(c)
      if (!n.delete(id)) n.add(id)
      return n
    })
  return (
    <Page
      title={t`Mail`}
      sub={t`The mail in your mailboxes. Ink Tray marks nothing as read. Files that you file by hand are in the register, and you can take them back.`}
      actions={
        <TakeIn
          mailboxes={mailboxes.data ?? []}
          onTaken={() => void client.invalidateQueries({ queryKey: keys.look })}
        />
      }
    >
      <div className="mb-4 flex flex-wrap items-end gap-3">
        <label className="text-sm font-semibold">
          <Trans>
            Mailbox
            <select
              className="field mt-1 block !w-auto font-normal"
              value={mailbox}
              onChange={(e) => set({ mailbox: e.target.value, folder: '' })}
            >
              <option value="">all mailboxes</option>
              {mailboxes.data?.map((m) => (
                <option key={m.id} value={m.id}>
                  {m.name}
                </option>
              ))}
            </select>
          </Trans>
        </label>
        {mailbox && (
          <label className="text-sm font-semibold">
            <Trans>
              Mail folder
              <select
                className="field mt-1 block !w-auto max-w-52 font-normal"
                value={folder}
                onChange={(e) => set({ folder: e.target.value })}
              >
                <option value="">INBOX</option>
                {folders.data
                  ?.filter((f) => f.selectable && f.path !== 'INBOX')
                  .map((f) => (
                    <option key={f.path} value={f.path}>
                      {f.path}
                    </option>
                  ))}
              </select>
            </Trans>
          </label>
        )}
        <label className="min-w-56 flex-1 text-sm font-semibold">
          {mailbox ? t`Words in subject, sender or names of attachments` : t`Words in subject, sender or folder`}
          <input
            className="field mt-1 font-normal"
            type="search"
            value={typed}
            onChange={(e) => setTyped(e.target.value)}
          />
        </label>
        <Filter label={t`nothing filed yet`} on={unfiled} set={(v) => set({ unfiled: v })} />
        {mailbox && (
          <>
            <Filter label={t`with attachments`} on={attachments} set={(v) => set({ attachments: v })} />
            <Filter label={t`unread`} on={unread} set={(v) => set({ unread: v })} />
          </>
        )}
      </div>
      {doing.map((p) => (
        <Doing key={p} pass={p} onBack={setUndoing} />
      ))}
      <Wrong error={filing.error} />
      <div className="grid gap-8 xl:grid-cols-[minmax(0,1fr)_17rem]">
        <div className="min-w-0">
          {chosen.size > 0 && (
            <div className="sticky top-2 z-10 mb-2 flex flex-wrap items-center gap-2 rounded-lg border border-line bg-sheet px-3 py-2 shadow-sheet">
              <span className="mr-auto font-semibold">
                <Trans>
                  <Plural value={chosen.size} one="# message" other="# messages" /> chosen
                </Trans>
              </span>
              <Button
                look="main"
                onClick={() => setSheet({ file: [...chosen].map((number) => ({ number })), whole: true })}
              >
                <Trans>File…</Trans>
              </Button>
              <Button onClick={() => setSheet({ change: [...chosen] })}>
                <Trans>Label or move…</Trans>
              </Button>
              <Button onClick={() => setSheet({ mark: [...chosen] })}>
                <Trans>Topic…</Trans>
              </Button>
              <Button look="quiet" onClick={() => setChosen(new Set())}>
                <Trans>None</Trans>
              </Button>
            </div>
          )}
          <Listing
            query={query}
            empty={() =>
              rows.length === 0 && !query.hasNextPage && (mailbox ? t`No matching messages.` : t`No matching messages.`)
            }
          >
            {() => (
              <>
                <ul aria-label={t`Messages`} className="text-[14.5px]">
                  {rows.map((m) => (
                    <Row
                      key={m.id}
                      m={m}
                      live={!!mailbox}
                      on={chosen.has(m.id)}
                      toggle={() => toggle(m.id)}
                      hand={() => hand(m)}
                      file={(items) => setSheet({ file: items ? [{ number: m.id, items }] : hand(m), whole: !items })}
                    />
                  ))}
                </ul>
                <p className="mt-4 flex flex-wrap items-center gap-3 text-sm text-ink-3">
                  {query.hasNextPage && (
                    <Button onClick={() => void query.fetchNextPage()} disabled={query.isFetchingNextPage}>
                      {query.isFetchingNextPage ? t`Looking…` : t`Older messages`}
                    </Button>
                  )}
                  {mailbox && (
                    <Button disabled={query.isFetching} onClick={() => void query.refetch()}>
                      {query.isFetching ? t`Looking…` : t`Look again`}
                    </Button>
                  )}
                  {first?.total !== undefined &&
                    t`${plural(first.total, { one: '# message', other: '# messages' })} in ${folder || t`INBOX`}${text || unfiled || attachments || unread ? t`, ${figure(query.data!.pages.reduce((n, p) => n + (p.looked ?? 0), 0))} looked at` : ''}.`}
                  {rows.length > 0 && (
                    <span>
                      <Trans>Keys: ↑ and ↓ move, Space chooses, F files, Enter opens.</Trans>
                    </span>
                  )}
                </p>
              </>
            )}
          </Listing>
        </div>
        <aside aria-label={t`Cabinets`} className="hidden xl:block">
          <div className="sticky top-4 max-h-[90vh] overflow-auto">
            {cabinets.data?.map((c) => (
              <section key={c.id} className="mb-5">
                <h2 className="mb-1">{c.name}</h2>
                <Folders cabinet={c} onDrop={drop(c.name)} />
              </section>
            ))}
            {!!cabinets.data?.length && (
              <p className="text-sm text-ink-3">
                <Trans>Drag messages or attachments onto a folder to file them there.</Trans>
              </p>
            )}
          </div>
        </aside>
      </div>
      {sheet && 'file' in sheet && (
        <FileSheet hand={sheet.file} message={sheet.whole} onClose={() => setSheet(null)} onBegun={begun} />
      )}
      {sheet && 'change' in sheet && (
        <ChangeSheet
          numbers={sheet.change}
          mailbox={mailbox || undefined}
          onClose={() => setSheet(null)}
          onBegun={begun}
        />
      )}
      {sheet && 'mark' in sheet && <MarkSheet numbers={sheet.mark} onClose={() => setSheet(null)} />}
      {undoing !== null && <Undo what={{ pass: undoing }} onClose={() => setUndoing(null)} />}
    </Page>
  )
}

function Filter({ label, on, set }: { label: string; on: boolean; set: (v: string) => void }) {
  return <Tick className="pb-2" label={label} checked={on} onChange={(on) => set(on ? 'yes' : '')} />
}

/** One message. Arrows go up and down, Space chooses, F files, Enter opens. */
function Row({
  m,
  live,
  on,
  toggle,
  hand,
  file,
}: {
  m: Schemas['Message']
  live: boolean
  on: boolean
  toggle: () => void
  hand: () => InHand
  file: (items?: string[]) => void
}) {
  const go = useNavigate()
  const key = (e: KeyboardEvent<HTMLLIElement>) => {
    if (e.target !== e.currentTarget) return
    if (e.key === 'ArrowDown') (e.currentTarget.nextElementSibling as HTMLElement | null)?.focus()
    else if (e.key === 'ArrowUp') (e.currentTarget.previousElementSibling as HTMLElement | null)?.focus()
    else if (e.key === ' ') toggle()
    else if (e.key === 'f' || e.key === 'F') file()
    else if (e.key === 'Enter') void go(`/messages/${m.id}`)
    else return
    e.preventDefault()
  }
  const unread = live && !m.flags.some((f) => f.toLowerCase() === '\\seen')
  const labels = m.flags.filter((f) => !f.startsWith('\\') && !f.startsWith('$'))
  const items = m.items?.filter((i) => !i.inline) ?? []
  return (
    <li
      tabIndex={0}
      onKeyDown={key}
      {...draggable(hand)}
      className={`grid grid-cols-[auto_minmax(0,1fr)_auto] gap-x-3 border-b border-line py-2 pl-1 ${on ? 'bg-sheet-2' : ''}`}
    >
      <Tick
        said={t`Choose “${m.subject || t`No subject`}”`}
        className="mt-1 !items-start"
        checked={on}
        onChange={toggle}
      />
      <div className="min-w-0">
        <p className="truncate">
          <Link to={`/messages/${m.id}`} className={`hover:underline ${unread ? 'font-bold' : 'font-semibold'}`}>
            {m.subject || t`No subject`}
          </Link>
          {unread && (
            <span className="ml-2 text-[13px] text-pen">
              <Trans>unread</Trans>
            </span>
          )}
          {labels.map((l) => (
            <span key={l} className="ml-2 rounded bg-sheet-2 px-1.5 text-[13px] text-ink-2">
              {l.replaceAll('_', ' ')}
            </span>
          ))}
        </p>
        <p className="truncate text-[13.5px] text-ink-3" title={m.sender_address}>
          {m.sender_name || m.sender_address}
          {m.sender && (
            <span className={m.sender === 'verified' ? 'text-moss' : 'text-seal'}> · {labelOf(m.sender)}</span>
          )}
          {!live && (
            <>
              {' '}
              · {m.mailbox}
              {m.folder !== 'INBOX' && `, ${m.folder}`}
            </>
          )}
        </p>
        {items.length > 0 && (
          <p className="mt-1 flex flex-wrap gap-1.5">
            {items.slice(0, 6).map((i) => (
              <button
                key={i.item}
                type="button"
                {...draggable(() => [{ number: m.id, items: [i.item] }])}
                title={t`File ${i.name} by hand`}
                onClick={() => file([i.item])}
                className="max-w-56 cursor-grab truncate rounded-md border border-line-2 px-2 py-0.5 text-[13px] text-ink-2 hover:bg-sheet-2"
              >
                {i.name} <span className="text-ink-3">{size(i.size)}</span>
              </button>
            ))}
            {items.length > 6 && (
              <span className="text-[13px] text-ink-3">
                <Trans>and {items.length - 6} more</Trans>
              </span>
            )}
          </p>
        )}
      </div>
      <div className="text-right text-[13.5px] whitespace-nowrap text-ink-3">
        <time dateTime={m.received_at}>{when(m.received_at)}</time>
        <span className="block">
          {live ? (
            m.filed ? (
              <span className="text-moss">
                <Trans>
                  <Plural value={m.filed} one="# file" other="# files" /> filed
                </Trans>
              </span>
            ) : (
              size(m.size)
            )
          ) : m.attachments ? (
            plural(m.attachments, { one: '# file', other: '# files' })
          ) : (
            '–'
          )}
        </span>
      </div>
    </li>
  )
}

/** Takes .eml and mbox files in, by button or dropped anywhere on the page. */
function TakeIn({ mailboxes, onTaken }: { mailboxes: Schemas['Mailbox'][]; onTaken: () => void }) {
  const input = useRef<HTMLInputElement>(null)
  const [over, setOver] = useState(false)
  const [progress, setProgress] = useState<{ done: number; of: number } | null>(null)
  const into = mailboxes.find((m) => m.kind === 'files')
  const take = useMutation({
    mutationFn: async (files: File[]) => {
      if (!into)
        throw new Problem(
          {
            detail: t`There is no mailbox for mail files yet`,
            advice: t`An administrator adds one in Settings: Add a mailbox, mail from files.`,
          },
          409,
        )
      let [taken, known] = [0, 0]
      const wrong: string[] = []
      setProgress({ done: 0, of: files.length })
      for (const [i, f] of files.entries()) {
        try {
          const x = await value(
            api.POST('/api/v1/mailboxes/{id}/messages', {
              params: { path: { id: into.id } },
              ...octets(f),
            }),
          )
          taken += x.taken
          known += x.known
          for (const r of x.refused)
            wrong.push(t`${f.name}: message ${r.message}, at byte ${r.offset}, was refused: ${r.reason}`)
        } catch (e) {
          wrong.push(`${f.name}: ${e instanceof Problem && e.fields.length ? e.fields[0].text : (e as Error).message}`)
        }
        setProgress({ done: i + 1, of: files.length })
      }
      return { taken, known, wrong }
    },
    onSettled: () => {
      setProgress(null)
      onTaken()
    },
  })
  const drop = take.mutate
  useEffect(() => {
    // anywhere on the page
    const isFile = (e: globalThis.DragEvent) => [...(e.dataTransfer?.types ?? [])].includes('Files')
    const hover = (e: globalThis.DragEvent) => {
      if (!isFile(e)) return
      e.preventDefault()
      setOver(true)
    }
    const leave = (e: globalThis.DragEvent) => {
      if (!e.relatedTarget) setOver(false)
    }
    const dropped = (e: globalThis.DragEvent) => {
      if (!isFile(e)) return
      e.preventDefault()
      setOver(false)
      if (e.dataTransfer?.files.length) drop([...e.dataTransfer.files])
    }
    window.addEventListener('dragover', hover)
    window.addEventListener('dragleave', leave)
    window.addEventListener('drop', dropped)
    return () => {
      window.removeEventListener('dragover', hover)
      window.removeEventListener('dragleave', leave)
      window.removeEventListener('drop', dropped)
    }
  }, [drop])
  const d = take.data
  return (
    <div
      className={`rounded-lg border border-dashed px-3 py-1.5 text-right text-sm ${over ? 'border-pen bg-pen-soft' : 'border-line-2'}`}
    >
      <input
        ref={input}
        type="file"
        accept=".eml,.mbox,message/rfc822"
        multiple
        className="sr-only"
        aria-label={t`Mail files`}
        tabIndex={-1}
        onChange={(e) => {
          if (e.target.files?.length) take.mutate([...e.target.files])
          e.target.value = ''
        }}
      />
      <button type="button" className="add" disabled={take.isPending} onClick={() => input.current?.click()}>
        <Trans>Import mail files…</Trans>
      </button>
      <span className="block text-[13px] text-ink-3" role="status">
        {progress
          ? t`${progress.done} of ${progress.of}`
          : d
            ? t`${plural(d.taken, { one: '# message', other: '# messages' })} imported${d.known ? t`, ${d.known} were there before` : ''}`
            : t`or drop mail files anywhere on this page`}
      </span>
      {d?.wrong.map((w) => (
        <span key={w} className="block text-[13px] text-seal">
          {w}
        </span>
      ))}
      <Wrong error={take.error} />
    </div>
  )
}
