import { plural, t } from '@lingui/core/macro'
import { Plural, Trans } from '@lingui/react/macro'
import { keepPreviousData, useInfiniteQuery, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useWindowVirtualizer } from '@tanstack/react-virtual'
import { lazy, Suspense, useEffect, useLayoutEffect, useRef, useState } from 'react'
import { useNavigate } from 'react-router'

import { api, type Schemas, value } from '../api/client'
import { type Asked, keys, office, queries } from '../api/queries'
import { pagesOf } from '../api/where'
import { useAddress, useTyped } from '../ui/address'
import { Button, Field, Listing, Page, Pick, Pop, Sheet, Tick, Wrong } from '../ui/basics'
import { figure, size, when } from '../ui/format'
import { labelOf, titleOf } from '../ui/labels'
import { Machines, Of, To, useOffice } from '../ui/office'
import { Term } from '../ui/term'
import { Export } from './export'
import { having, of } from './search'

const Activity = lazy(() => import('./activity').then((m) => ({ default: m.Activity })))

type Filing = Schemas['Filing']
const views = [
  ['filings', t`Filings`],
  ['messages', t`Messages`],
  ['activity', t`Activity`],
] as const

export function Register() {
  const [get, set] = useAddress()
  const [exporting, setExporting] = useState(false)
  const [choosing, setChoosing] = useState(false)
  const language = useQuery({ ...queries.registerLanguage, staleTime: 60_000 })
  const text = get('text')
  const [typed, setTyped] = useTyped(text, (text) => set({ text: text }, true), 180)
  const view = get('view') || 'filings'
  const asked: Asked = {
    text: text || undefined,
    rule: get('rule') || undefined,
    cabinet: get('cabinet') || undefined,
    folder: get('folder') || undefined,
  }
  const sort = get('sort') || 'number'
  const direction = get('direction') === 'up' ? 'up' : 'down'
  const head = useQuery(queries.registerHead(asked))
  const found = head.data
  const place = asked.folder ?? asked.cabinet
  const chosen = language.data?.chosen ?? []
  const { others } = useOffice()
  const shown = others.length > 0 && !chosen.includes('machine') ? ['machine', ...chosen] : chosen
  const narrow = (name: string, v: string) => {
    const next = having(typed, name, v)
    setTyped(next, true)
    set({ text: next })
  }
  return (
    <Page
      title={t`Register`}
      sub={
        <>
          {head.error
            ? t`Everything that was filed.`
            : found &&
              t`${plural(found.total, { one: '# filing', other: '# filings' })}, ${size(found.size)}${place ? `, in ${place}` : ''}`}
          {found && !head.error && '.'} <Term word="filing" question={t`What is a filing?`} />
        </>
      }
      actions={
        <>
          <Button onClick={() => setChoosing(true)}>
            <Trans>Columns</Trans>
          </Button>
          <Button look="main" disabled={!found?.total} onClick={() => setExporting(true)}>
            <Trans>Export…</Trans>
          </Button>
        </>
      }
    >
      <Machines missing={found?.missing} />
      <div className="mb-4 flex flex-wrap items-center gap-2">
        <input
          type="search"
          aria-label={t`Search the register`}
          placeholder={t`Words, or sender:tidewatch kind:pdf since:2026-05`}
          className="field !w-auto min-w-52 flex-1"
          value={typed}
          onChange={(e) => setTyped(e.target.value)}
        />
        <Pop label={t`Filters`}>
          <Narrow text={typed} kinds={language.data?.kinds ?? []} onSet={narrow} />
        </Pop>
        <nav aria-label={t`Views`} className="flex">
          {views.map(([v, name]) => (
            <button
              key={v}
              aria-current={view === v || undefined}
              className={`border-b-2 px-3 py-1.5 text-sm font-semibold ${view === v ? 'border-ink' : 'border-transparent text-ink-2 hover:text-ink'}`}
              onClick={() => set({ view: v === 'filings' ? '' : v })}
            >
              {name}
            </button>
          ))}
        </nav>
      </div>
      {asked.rule && (
        <p className="mb-3 text-sm text-ink-2">
          <Trans>
            Only one rule’s filings.{' '}
            <button className="add" onClick={() => set({ rule: '' })}>
              All rules
            </button>
          </Trans>
        </p>
      )}
      <div className="grid grid-cols-[minmax(0,1fr)] gap-7 lg:grid-cols-[12.5rem_minmax(0,1fr)]">
        <nav aria-label={t`Folders`} className="text-[14px] leading-[1.85] max-lg:max-h-64 max-lg:overflow-auto">
          <Branches
            asked={{ text: asked.text, rule: asked.rule }}
            chosen={{ cabinet: asked.cabinet ?? '', folder: asked.folder ?? '' }}
            onPick={(cabinet, folder) => set({ cabinet, folder })}
          />
          {place && (
            <Button look="quiet" className="!px-0" onClick={() => set({ cabinet: '', folder: '' })}>
              <Trans>All folders</Trans>
            </Button>
          )}
        </nav>
        <div className="min-w-0">
          {view === 'activity' ? (
            <Suspense
              fallback={
                <p role="status" className="text-ink-3">
                  <Trans>Opening…</Trans>
                </p>
              }
            >
              <Activity asked={asked} onNarrow={narrow} />
            </Suspense>
          ) : view === 'messages' ? (
            <Messages asked={asked} total={found?.total} />
          ) : (
            language.data && (
              <Filings
                asked={asked}
                sort={sort}
                direction={direction}
                columns={language.data.columns
                  .filter((c) => shown.includes(c.name))
                  .toSorted((a, b) => shown.indexOf(a.name) - shown.indexOf(b.name))}
                total={found?.total}
                onSort={(by, way) => set({ sort: by === 'number' ? '' : by, direction: way === 'up' ? 'up' : '' })}
              />
            )
          )}
        </div>
      </div>
      {exporting && found && language.data && (
        <Export
          asked={asked}
          sort={sort}
          direction={direction}
          total={found.total}
          columns={language.data.chosen}
          onClose={() => setExporting(false)}
        />
      )}
      {choosing && language.data && <Columns language={language.data} onClose={() => setChoosing(false)} />}
    </Page>
  )
}

function Narrow({
  text,
  kinds,
  onSet,
}: {
  text: string
  kinds: string[]
  onSet: (name: string, value: string) => void
}) {
  const field = (name: string, label: string, hint?: string, type = 'text') => {
    // A month or a year that was typed in the search shows as no day, and stays.
    const shown = type === 'date' && !/^\d{4}-\d\d-\d\d$/.test(of(text, name)) ? '' : of(text, name)
    const changed = (v: string) => v !== shown
    return (
      <Field
        key={name + of(text, name)}
        label={label}
        type={type}
        hint={hint}
        defaultValue={shown}
        onBlur={(e) => changed(e.target.value) && onSet(name, e.target.value)}
        onKeyDown={(e) => e.key === 'Enter' && changed(e.currentTarget.value) && onSet(name, e.currentTarget.value)}
      />
    )
  }
  return (
    <>
      <div className="grid gap-x-3 sm:grid-cols-2">
        {field('sender', t`Sender`, t`in name or address`)}
        {field('subject', t`Subject`)}
        {field('file', t`File name`)}
        {field('rule', t`Rule`)}
        <Pick
          label={t`Kind`}
          value={of(text, 'kind')}
          onChange={(v) => onSet('kind', v)}
          choices={[['', t`any`], ...kinds.map((k): [string, string] => [k, k])]}
        />
        <Pick
          label={t`State`}
          value={of(text, 'state')}
          onChange={(v) => onSet('state', v)}
          choices={[
            ['', t`filed, and not taken back`],
            ['missing', t`missing`],
            ['changed', t`changed since`],
            ['replaced', t`replaced`],
            ['taken back', t`taken back`],
            ['void', t`the number was not used`],
            ['all', t`every number`],
          ]}
        />
        {field('since', t`Received since`, undefined, 'date')}
        {field('before', t`Received before`, undefined, 'date')}
        {field('larger', t`Larger than`, t`such as 2MB`)}
        {field('note', t`In a note`)}
      </div>
      <p className="text-sm text-ink-3">
        <Trans>
          Each filter appears in the search. You can also type it there, and the address of the page keeps it.
        </Trans>
      </p>
    </>
  )
}

function Columns({ language, onClose }: { language: Schemas['RegisterLanguage']; onClose: () => void }) {
  const client = useQueryClient()
  const [chosen, setChosen] = useState(language.chosen)
  const save = useMutation({
    mutationFn: (columns: string[]) => value(api.PUT('/api/v1/register/columns', { body: { columns } })),
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: keys.registerLanguage })
      onClose()
    },
  })
  const rest = language.columns.filter((c) => !chosen.includes(c.name))
  const move = (i: number, by: number) => {
    const next = [...chosen]
    const [one] = next.splice(i, 1)
    next.splice(i + by, 0, one)
    setChosen(next)
  }
  return (
    <Sheet title={t`Columns`} open onClose={onClose}>
      <p className="mb-3 text-ink-2">
        <Trans>For this page and for exports. Ink Tray keeps your choice.</Trans>
      </p>
      <ol className="border-t border-line">
        {chosen.map((name, i) => {
          const c = language.columns.find((o) => o.name === name)!
          return (
            <li key={name} className="flex items-center justify-between gap-2 border-b border-line py-1">
              <Tick label={titleOf(c)} checked onChange={() => setChosen(chosen.filter((n) => n !== name))} />
              <span>
                <button
                  className="add min-h-7 min-w-7"
                  disabled={i === 0}
                  aria-label={t`${titleOf(c)}: further left`}
                  onClick={() => move(i, -1)}
                >
                  ↑
                </button>
                <button
                  className="add min-h-7 min-w-7"
                  disabled={i === chosen.length - 1}
                  aria-label={t`${titleOf(c)}: further right`}
                  onClick={() => move(i, 1)}
                >
                  ↓
                </button>
              </span>
            </li>
          )
        })}
      </ol>
      <div className="mt-2 grid sm:grid-cols-2">
        {rest.map((c) => (
          <Tick key={c.name} label={titleOf(c)} checked={false} onChange={() => setChosen([...chosen, c.name])} />
        ))}
      </div>
      <Wrong error={save.error} />
      <div className="mt-5 flex flex-wrap justify-between gap-2">
        <Button onClick={() => save.mutate([])}>
          <Trans>Usual columns</Trans>
        </Button>
        <span className="flex gap-2">
          <Button onClick={onClose}>
            <Trans>Cancel</Trans>
          </Button>
          <Button look="main" disabled={chosen.length === 0 || save.isPending} onClick={() => save.mutate(chosen)}>
            <Trans>Save</Trans>
          </Button>
        </span>
      </div>
    </Sheet>
  )
}

const sorts = ['number', 'received', 'filed', 'sender', 'subject', 'file', 'folder', 'size', 'kind', 'rule', 'mailbox']
const widths: Record<string, string> = {
  number: '6.2rem',
  filed: '8rem',
  received: '8rem',
  sender: '11rem',
  address: '14rem',
  subject: '16rem',
  file: '18rem',
  folder: '15rem',
  cabinet: '8rem',
  place: '18rem',
  mailbox: '7rem',
  machine: '7rem',
  rule: '11rem',
  revision: '5rem',
  kind: '7rem',
  size: '5.2rem',
  checksum: '12rem',
  state: '6.5rem',
  inside: '26rem',
  remark: '10rem',
  notes: '12rem',
  message: '14rem',
}

function cell(f: Filing, name: string) {
  switch (name) {
    case 'number':
      return f.entry
    case 'filed':
      return f.state === 'void' ? '' : when(f.filed_at)
    case 'received':
      return when(f.received_at)
    case 'sender':
      return f.sender_name || f.sender_address
    case 'address':
      return f.sender_address
    case 'size':
      return size(f.size)
    case 'checksum':
      return f.sha256
    case 'message':
      return f.message_url
    case 'place':
      return f.place
    case 'state':
      return labelOf(f.state)
    case 'inside':
      return f.inside?.map((p) => p.text).join('')
    default:
      return f[name as 'file'] ?? f.values?.find((v) => v.name === name)?.text
  }
}

const widthOf = (name: string) => widths[name] ?? '9rem'

const rowHeight = 37
const cardHeight = 92

/** Whether the window is too narrow for a table. */
function useNarrow() {
  const query = '(max-width: 599px)'
  const [narrow, setNarrow] = useState(() => window.matchMedia(query).matches)
  useEffect(() => {
    const media = window.matchMedia(query)
    const changed = () => setNarrow(media.matches)
    media.addEventListener('change', changed)
    return () => media.removeEventListener('change', changed)
  }, [])
  return narrow
}

function Filings({
  asked,
  sort,
  direction,
  columns: chosen,
  total,
  onSort,
}: {
  asked: Asked
  sort: string
  direction: 'up' | 'down'
  columns: Schemas['RegisterColumn'][]
  total?: number
  onSort: (by: string, way: 'up' | 'down') => void
}) {
  const go = useNavigate()
  const { away } = useOffice()
  const client = useQueryClient()
  const box = useRef<HTMLDivElement>(null)
  const [top, setTop] = useState(0)
  const key = [...keys.filings, asked, sort, direction]
  const list = useInfiniteQuery({
    queryKey: key,
    queryFn: ({ pageParam }) =>
      value(
        api.GET('/api/v1/register', {
          params: { query: { ...office, ...asked, sort, direction, after: pageParam || undefined, most: 100 } },
        }),
      ),
    initialPageParam: '',
    getNextPageParam: (last) => last.next,
    placeholderData: keepPreviousData,
    retry: false,
  })
  const rows = list.data?.pages.flatMap((p) => p.filings) ?? []
  const file = chosen.findIndex((c) => c.name === 'file')
  const columns = rows.some((f) => f.inside)
    ? chosen.toSpliced(file + 1, 0, {
        name: 'inside',
        title: t`Inside`,
        means: t`where the words are in the file`,
        usual: false,
      })
    : chosen
  const narrow = useNarrow()
  const height = narrow ? cardHeight : rowHeight
  const virtual = useWindowVirtualizer({
    count: rows.length,
    estimateSize: () => height,
    overscan: 12,
    scrollMargin: top,
  })
  const items = virtual.getVirtualItems()
  const last = items.at(-1)?.index ?? 0
  useLayoutEffect(() => {
    if (box.current) setTop(box.current.getBoundingClientRect().top + window.scrollY)
  }, [list.isPending])
  useEffect(() => {
    if (last >= rows.length - 30 && list.hasNextPage && !list.isFetchingNextPage) void list.fetchNextPage()
  })
  // What came meanwhile is shown at once while nobody has scrolled, else on a word.
  const listed = list.data?.pages[0].total
  const newer = total !== undefined && listed !== undefined && !list.isPlaceholderData ? total - listed : 0
  useEffect(() => {
    if (newer !== 0 && window.scrollY < 300 && (list.data?.pages.length ?? 0) < 3)
      void client.invalidateQueries({ queryKey: keys.filings })
  }, [newer, client, list.data?.pages.length])
  return (
    <Listing query={list} empty={(d) => d.pages[0].total === 0 && <Nothing asked={asked} />}>
      {() => (
        <>
          {newer > 0 && window.scrollY >= 300 && (
            <p className="sticky top-2 z-10 text-center">
              <Button
                className="shadow-sheet"
                onClick={() => {
                  window.scrollTo(0, 0)
                  void client.resetQueries({ queryKey: key })
                }}
              >
                <Trans>
                  <Plural value={newer} one="# new filing" other="# new filings" />: show
                </Trans>
              </Button>
            </p>
          )}
          <div ref={box} className="overflow-x-auto" tabIndex={0} role="region" aria-label={t`Filings`}>
            <table
              aria-label={t`Filings`}
              className="w-full table-fixed text-[14.5px]"
              style={narrow ? undefined : { minWidth: `calc(${columns.map((c) => widthOf(c.name)).join(' + ')})` }}
              aria-rowcount={listed}
            >
              {!narrow && (
                <colgroup>
                  {columns.map((c) => (
                    <col key={c.name} style={{ width: widthOf(c.name) }} />
                  ))}
                </colgroup>
              )}
              <thead className={narrow ? 'sr-only' : ''}>
                <tr className="border-b border-line-2 text-left text-[13px] text-ink-3">
                  {columns.map((c) => {
                    const here = sort === c.name
                    const sortable = sorts.includes(c.name) || !(c.name in widths) // a value
                    return (
                      <th
                        key={c.name}
                        scope="col"
                        aria-sort={here ? (direction === 'up' ? 'ascending' : 'descending') : undefined}
                        className={`truncate px-2.5 py-2 font-semibold ${c.name === 'size' ? 'text-right' : ''}`}
                      >
                        {sortable ? (
                          <button
                            className={`hover:text-ink ${here ? 'text-ink' : ''}`}
                            onClick={() => onSort(c.name, here && direction === 'down' ? 'up' : 'down')}
                          >
                            {titleOf(c)}
                            {here && <span aria-hidden> {direction === 'up' ? '↑' : '↓'}</span>}
                          </button>
                        ) : (
                          titleOf(c)
                        )}
                      </th>
                    )
                  })}
                </tr>
              </thead>
              <tbody>
                {items.length > 0 && <tr aria-hidden style={{ height: items[0].start - top }} />}
                {items.map((item) => {
                  const f = rows[item.index]
                  return (
                    <tr
                      key={`${f.machine} ${f.entry}`}
                      aria-rowindex={item.index + 2}
                      style={{ height }}
                      className="cursor-pointer border-b border-line hover:bg-pen-soft"
                      onClick={(e) => {
                        if ((e.target as Element).closest('a')) return
                        const at = away(f.machine)
                        if (at) window.location.assign(`${pagesOf(at)}/register/${f.entry}`)
                        else void go(`/register/${f.entry}`)
                      }}
                    >
                      {narrow && (
                        <td colSpan={columns.length} className="overflow-hidden py-2">
                          <p className="truncate font-semibold">
                            <To className="hover:underline" of={f.machine} to={`/register/${f.entry}`}>
                              {cell(f, 'file')}
                            </To>
                          </p>
                          <p className="truncate text-ink-2">{cell(f, 'folder')}</p>
                          <p className="truncate text-sm text-ink-3">
                            {f.entry} · {cell(f, 'sender')} · {cell(f, 'received')}
                          </p>
                        </td>
                      )}
                      {(narrow ? [] : columns).map((c) => (
                        <td
                          key={c.name}
                          title={String(cell(f, c.name) ?? '')}
                          className={`truncate px-2.5 ${c.name === 'size' ? 'text-right text-ink-2' : ''} ${c.name === 'file' ? 'font-semibold' : ''} ${c.name === 'state' && (f.state === 'missing' || f.state === 'changed') ? 'text-seal' : ''}`}
                        >
                          {c.name === 'number' ? (
                            <To className="hover:underline" of={f.machine} to={`/register/${f.entry}`}>
                              {f.entry}
                            </To>
                          ) : c.name === 'inside' ? (
                            f.inside?.map((p, i) =>
                              p.hit ? (
                                <mark key={i} className="rounded-sm bg-pen-soft px-0.5 font-semibold text-ink">
                                  {p.text}
                                </mark>
                              ) : (
                                <span key={i}>{p.text}</span>
                              ),
                            )
                          ) : (
                            cell(f, c.name)
                          )}
                        </td>
                      ))}
                    </tr>
                  )
                })}
                <tr
                  aria-hidden
                  style={{ height: Math.max(0, virtual.getTotalSize() - ((items.at(-1)?.end ?? top) - top)) }}
                />
              </tbody>
            </table>
          </div>
          <p role="status" className="mt-3 text-center text-sm text-ink-3">
            {list.isFetchingNextPage
              ? t`Looking…`
              : list.hasNextPage
                ? t`${figure(rows.length)} of ${figure(listed)}`
                : ''}
          </p>
          <Wrong error={list.error} />
        </>
      )}
    </Listing>
  )
}

function Nothing({ asked }: { asked: Asked }) {
  return (
    <>
      {asked.text || asked.folder || asked.cabinet || asked.rule
        ? t`No matching files.`
        : t`Nothing was filed yet. Once a rule is on, each filed file appears here with its number.`}
    </>
  )
}

function Messages({ asked, total }: { asked: Asked; total?: number }) {
  const list = useInfiniteQuery({
    queryKey: [...keys.filings, 'messages', asked, total],
    queryFn: ({ pageParam }) =>
      value(
        api.GET('/api/v1/register/messages', {
          params: { query: { ...office, ...asked, after: pageParam || undefined, most: 40 } },
        }),
      ),
    initialPageParam: '',
    getNextPageParam: (last) => last.next,
    placeholderData: keepPreviousData,
    retry: false,
  })
  return (
    <Listing query={list} empty={(d) => d.pages[0].total === 0 && <Nothing asked={asked} />}>
      {(d) => (
        <>
          {d.pages
            .flatMap((p) => p.messages)
            .map((m) => (
              <article
                key={`${m.machine} ${m.message}`}
                className="border-t border-line py-3 [content-visibility:auto] [contain-intrinsic-size:auto_90px] first:border-0"
              >
                <div className="flex justify-between gap-3">
                  <To of={m.machine} to={`/messages/${m.message}`} className="truncate font-semibold hover:underline">
                    {m.subject || t`No subject`}
                  </To>
                  <time dateTime={m.received_at} className="shrink-0 text-[13.5px] text-ink-3">
                    {when(m.received_at)}
                  </time>
                </div>
                <p className="truncate text-[13.5px] text-ink-3">
                  {m.sender_name || m.sender_address} · {m.mailbox} <Of machine={m.machine} />
                </p>
                <ul className="mt-1 ml-3 border-l-2 border-line-2 pl-3 text-[14.5px]">
                  {m.filings.map((f) => (
                    <li key={f.entry} className="grid grid-cols-[5.5rem_minmax(0,1fr)] gap-2">
                      <To className="py-0.5 text-pen hover:underline" of={m.machine} to={`/register/${f.entry}`}>
                        {f.entry}
                      </To>
                      <span className="truncate py-0.5">
                        {f.file} <span className="text-ink-3">{f.folder}</span>
                      </span>
                    </li>
                  ))}
                </ul>
              </article>
            ))}
          {list.hasNextPage && (
            <p className="mt-4 text-center">
              <Button onClick={() => void list.fetchNextPage()} disabled={list.isFetchingNextPage}>
                <Trans>Show more messages</Trans>
              </Button>
            </p>
          )}
        </>
      )}
    </Listing>
  )
}

type Place = { cabinet: string; folder: string }

/** The folders of one folder, opened where somebody opens them; with no cabinet, the cabinets. */
function Branches({
  asked,
  chosen,
  onPick,
  at = { cabinet: '', folder: '' },
}: {
  asked: Asked
  chosen: Place
  onPick: (cabinet: string, folder: string) => void
  at?: Place
}) {
  const query = useQuery(queries.registerFolders(asked, at.cabinet, at.folder))
  const [all, setAll] = useState(false)
  const most = 60
  return (
    <>
      {query.data?.slice(0, all ? undefined : most).map((b) => {
        const here = chosen.cabinet === b.cabinet && chosen.folder === b.folder
        const within =
          chosen.cabinet === b.cabinet &&
          (b.folder === '' || chosen.folder === b.folder || chosen.folder.startsWith(b.folder + '/'))
        return (
          <div key={b.cabinet + '/' + b.folder} className={at.cabinet ? 'border-l border-line-2 pl-4' : ''}>
            <button
              className={`text-left [overflow-wrap:anywhere] hover:underline ${here || !at.cabinet ? 'font-semibold' : ''} ${here ? 'text-pen' : ''}`}
              aria-current={here || undefined}
              onClick={() => onPick(b.cabinet, b.folder)}
            >
              {b.name} <span className="font-normal text-ink-3">{figure(b.count)}</span>
            </button>
            {b.more && (within || !at.cabinet) && <Branches asked={asked} chosen={chosen} onPick={onPick} at={b} />}
          </div>
        )
      })}
      {!all && (query.data?.length ?? 0) > most && (
        <button className="add" onClick={() => setAll(true)}>
          <Trans>{figure(query.data!.length - most)} more folders</Trans>
        </button>
      )}
    </>
  )
}
