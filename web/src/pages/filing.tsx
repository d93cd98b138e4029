import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { lazy, type ReactNode, Suspense, useState } from 'react'
import { Link, useParams } from 'react-router'

import { api, type Schemas, value } from '../api/client'
import { queries } from '../api/queries'
import { Button, Chip, Listing, Page, Wrong } from '../ui/basics'
import { exactly, figure, receivedAs, size, when } from '../ui/format'
import { labelOf } from '../ui/labels'
import { Steps } from './parts'
import { Undo } from './undo'
import { address } from '../api/where'

const Preview = lazy(() => import('./preview').then((m) => ({ default: m.Preview })))

/** A filing's whole story. */
export function FilingPage() {
  const { entry = '' } = useParams()
  const client = useQueryClient()
  const query = useQuery({ ...queries.story(entry), retry: false })
  const [undoing, setUndoing] = useState(false)
  const [marked, setMarked] = useState('')
  const story = query.data
  const places = useQuery({
    ...queries.places(entry),
    enabled:
      !!story?.filing.values?.some((v) => v.text) &&
      story.filing.state === 'filed' &&
      (story.preview === 'pdf' || story.preview === 'picture'),
  })
  const keep = { onSuccess: (s: Schemas['Story']) => client.setQueryData(queries.story(entry).queryKey, s) }
  const verify = useMutation({
    mutationFn: () => value(api.POST('/api/v1/register/{entry}/verify', { params: { path: { entry } } })),
    ...keep,
  })
  return (
    <Listing query={query}>
      {(s) => {
        const f = s.filing
        const there = f.state === 'filed' || f.state === 'changed' || f.state === 'missing'
        return (
          <Page
            title={<span className="[overflow-wrap:anywhere]">{f.file || t`Number ${f.entry}`}</span>}
            sub={
              <Trans>
                No. {f.entry} · <Chip word={f.state ?? 'filed'} />
                {f.remark && <> {f.remark}</>}
              </Trans>
            }
            actions={
              <>
                {there && f.state !== 'missing' && (
                  <a
                    className="rounded-lg border border-ink bg-ink px-4 py-2 text-sm font-semibold text-sheet hover:opacity-90"
                    href={address(`/api/v1/register/${f.entry}/file`)}
                    download
                  >
                    <Trans>Download</Trans>
                  </a>
                )}
                {there && (
                  <Button disabled={verify.isPending} onClick={() => verify.mutate()}>
                    <Trans>Verify now</Trans>
                  </Button>
                )}
                {there && (
                  <Button onClick={() => setUndoing(true)}>
                    <Trans>Take it back…</Trans>
                  </Button>
                )}
              </>
            }
          >
            <Wrong error={verify.error} />
            {f.state === 'filed' && <Changed f={f} />}
            <div className="grid grid-cols-[minmax(0,1fr)] gap-8 xl:grid-cols-[minmax(0,1fr)_minmax(0,1.1fr)]">
              <div className="min-w-0">
                <dl className="grid grid-cols-[7.5rem_minmax(0,1fr)] gap-y-1 text-[15px] [overflow-wrap:anywhere]">
                  <Fact name={t`Folder`}>
                    {f.folder || (f.file ? t`the cabinet itself` : '')}{' '}
                    {f.file && (
                      <Link
                        className="text-pen underline"
                        to={`/register?${new URLSearchParams({ cabinet: f.cabinet, folder: f.folder }).toString()}`}
                      >
                        <Trans>other files there</Trans>
                      </Link>
                    )}
                  </Fact>
                  <Fact name={t`Cabinet`}>{f.cabinet}</Fact>
                  {f.place && (
                    <Fact name={t`For colleagues`}>
                      <Copied text={f.place} url={f.place_url} />
                    </Fact>
                  )}
                  {s.folder_place && (
                    <Fact name={t`Its folder`}>
                      <Copied text={s.folder_place} url={s.folder_url} />
                    </Fact>
                  )}
                  <Fact name={t`Rule`}>
                    {f.rule}
                    {f.revision ? t`, revision ${f.revision}` : ''}
                  </Fact>
                  <Fact name={t`From`}>
                    {f.sender_name ? `${f.sender_name}, ${f.sender_address}` : f.sender_address}
                  </Fact>
                  <Fact name={t`Subject`}>{f.subject}</Fact>
                  <Fact name={t`Received`}>
                    <Trans>
                      {exactly(f.received_at)}
                      {receivedAs(s.received_from)} in {f.mailbox}
                    </Trans>
                  </Fact>
                  {s.recipients && <Fact name={t`To`}>{s.recipients.join(', ')}</Fact>}
                  {f.state !== 'void' && (
                    <>
                      <Fact name={t`Size`}>
                        <Trans>
                          {size(f.size)} ({figure(f.size)} bytes), {f.kind}
                        </Trans>
                      </Fact>
                      <Fact name={t`SHA-256`}>
                        <span className="text-[13px]">{f.sha256}</span>
                      </Fact>
                    </>
                  )}
                  <Fact name={t`Verdict`}>{labelOf(s.verdict)}</Fact>
                  <Fact name={t`Message`}>
                    <span className="flex flex-wrap gap-x-4 gap-y-1.5">
                      <Link className="text-pen hover:underline" to={`/messages/${f.message}`}>
                        <Trans>why it was filed</Trans>
                      </Link>
                      {f.message_url && (
                        <a className="text-pen hover:underline" href={f.message_url}>
                          <Trans>open in a mail program</Trans>
                        </a>
                      )}
                      {s.mailbox_url && (
                        <a className="text-pen hover:underline" href={s.mailbox_url}>
                          <Trans>at its server</Trans>
                        </a>
                      )}
                    </span>
                  </Fact>
                </dl>
                <Values filing={f} places={places.data ?? []} marked={marked} onMark={setMarked} />
                <h2 className="mt-7 mb-2">
                  <Trans>What happened</Trans>
                </h2>
                <ol className="border-l-2 border-line-2 pl-4 text-[15px]">
                  {s.events.map((e, i) => (
                    <li key={i} className="py-1 [overflow-wrap:anywhere]">
                      <time dateTime={e.at} className="mr-2 text-[13.5px] text-ink-3">
                        {when(e.at)}
                      </time>
                      {e.text}
                      {e.by && <span className="text-ink-2"> {e.by}</span>}
                    </li>
                  ))}
                </ol>
                <Steps steps={s.steps} />
                <Notes story={s} />
                {s.others.length > 0 && (
                  <>
                    <h2 className="mt-7 mb-2">
                      <Trans>Of the same message</Trans>
                    </h2>
                    <ul className="text-[15px]">
                      {s.others.map((o) => (
                        <li
                          key={o.entry}
                          className="grid grid-cols-[5.5rem_minmax(0,1fr)_auto] gap-2 border-b border-line py-1"
                        >
                          <Link className="py-0.5 text-pen hover:underline" to={`/register/${o.entry}`}>
                            {o.entry}
                          </Link>
                          <span className="truncate">
                            {o.file} <span className="text-ink-3">{o.folder}</span>
                          </span>
                          <Chip word={o.state ?? ''} />
                        </li>
                      ))}
                    </ul>
                  </>
                )}
              </div>
              <Suspense
                fallback={
                  <p role="status" className="text-ink-3">
                    <Trans>Opening…</Trans>
                  </p>
                }
              >
                <Preview filing={f} kind={s.preview} places={places.data} marked={marked} />
              </Suspense>
            </div>
            {undoing && <Undo what={{ item: f.item!, name: f.file }} onClose={() => setUndoing(false)} />}
          </Page>
        )
      }}
    </Listing>
  )
}

function Fact({ name, children }: { name: string; children: ReactNode }) {
  return children ? (
    <>
      <dt className="text-ink-2">{name}</dt>
      <dd>{children}</dd>
    </>
  ) : null
}

/** A place for other programs: to be opened where a browser can, and to be copied. */
function Copied({ text, url }: { text: string; url?: string }) {
  const [done, setDone] = useState(false)
  const web = url && /^https?:/.test(url)
  return (
    <>
      {web ? (
        <a className="text-pen underline" href={url} target="_blank" rel="noreferrer">
          {text}
        </a>
      ) : (
        text
      )}{' '}
      <button className="add" onClick={() => void navigator.clipboard.writeText(text).then(() => setDone(true))}>
        {done ? t`copied` : t`copy`}
      </button>
    </>
  )
}

/** What was read of the file, and correcting it. */
function Values({
  filing: f,
  places,
  marked,
  onMark,
}: {
  filing: Schemas['Filing']
  places: Schemas['ValuePlace'][]
  marked: string
  onMark: (name: string) => void
}) {
  const client = useQueryClient()
  const [open, setOpen] = useState('')
  const [text, setText] = useState('')
  const correct = useMutation({
    mutationFn: () =>
      value(
        api.PUT('/api/v1/register/{entry}/values/{name}', {
          params: { path: { entry: f.entry, name: open } },
          body: { text },
        }),
      ),
    onSuccess: (next) => {
      setOpen('')
      client.setQueryData(queries.story(f.entry).queryKey, next)
    },
  })
  if (!f.values) return null
  return (
    <section aria-label={t`Values`}>
      <h2 className="mt-7 mb-2">
        <Trans>Values in this file</Trans>
      </h2>
      <dl className="grid grid-cols-[7.5rem_minmax(0,1fr)] gap-y-1 text-[15px] [overflow-wrap:anywhere]">
        {f.values.map((v) => (
          <Fact key={v.name} name={v.name}>
            {open === v.name ? (
              <form
                className="flex gap-2"
                onSubmit={(e) => {
                  e.preventDefault()
                  correct.mutate()
                }}
              >
                <input
                  autoFocus
                  aria-label={t`The value ${v.name}`}
                  className="field"
                  maxLength={500}
                  value={text}
                  onChange={(e) => setText(e.target.value)}
                  onKeyDown={(e) => e.key === 'Escape' && setOpen('')}
                />
                <Button type="submit" disabled={correct.isPending}>
                  <Trans>Keep</Trans>
                </Button>
              </form>
            ) : (
              <>
                {v.text || (
                  <span className="text-ink-3">
                    <Trans>not found{v.problem ? `: ${v.problem}` : ''}</Trans>
                  </span>
                )}{' '}
                {v.text && v.sure ? (
                  <span className="text-[13.5px] text-ink-3">
                    <Trans>from a scan, {v.sure} % sure </Trans>
                  </span>
                ) : null}
                {places.some((p) => p.value === v.name) && (
                  <button
                    className="add mr-2"
                    aria-label={t`on page ${places.find((p) => p.value === v.name)?.page ?? 0}: show where ${v.name} stands`}
                    aria-pressed={marked === v.name}
                    onClick={() => onMark(marked === v.name ? '' : v.name)}
                  >
                    <Trans>on page {places.find((p) => p.value === v.name)?.page}</Trans>
                  </button>
                )}
                <button
                  className="add"
                  aria-label={`${v.text ? t`Correct` : t`Enter`}: ${v.name}`}
                  onClick={() => {
                    correct.reset()
                    setText(v.text)
                    setOpen(v.name)
                  }}
                >
                  {v.text ? t`correct` : t`enter`}
                </button>
              </>
            )}
          </Fact>
        ))}
      </dl>
      <Wrong error={correct.error} />
    </section>
  )
}

function Notes({ story: s }: { story: Schemas['Story'] }) {
  const client = useQueryClient()
  const [words, setWords] = useState('')
  const entry = s.filing.entry
  const add = useMutation({
    mutationFn: () =>
      value(api.POST('/api/v1/register/{entry}/notes', { params: { path: { entry } }, body: { text: words } })),
    onSuccess: (next) => {
      setWords('')
      client.setQueryData(queries.story(entry).queryKey, next)
    },
  })
  const remove = useMutation({
    mutationFn: (number: number) =>
      value(api.DELETE('/api/v1/register/{entry}/notes/{number}', { params: { path: { entry, number } } })),
    onSuccess: () => client.invalidateQueries(queries.story(entry)),
  })
  return (
    <section aria-label={t`Notes`}>
      <h2 className="mt-7 mb-2">
        <Trans>Notes</Trans>
      </h2>
      {s.notes.map((n) => (
        <div key={n.id} className="border-b border-line py-1.5 text-[15px]">
          <p className="[overflow-wrap:anywhere] whitespace-pre-wrap">{n.text}</p>
          <p className="text-[13.5px] text-ink-3">
            {n.made_by}, {when(n.made_at)}{' '}
            <button className="add" aria-label={t`Remove: ${n.text.slice(0, 40)}`} onClick={() => remove.mutate(n.id)}>
              <Trans>remove</Trans>
            </button>
          </p>
        </div>
      ))}
      <form
        className="mt-2 flex gap-2"
        onSubmit={(e) => {
          e.preventDefault()
          if (words.trim()) add.mutate()
        }}
      >
        <input
          aria-label={t`A note on this filing`}
          placeholder={t`such as: the harbour master has the signed copy`}
          className="field"
          maxLength={2000}
          value={words}
          onChange={(e) => setWords(e.target.value)}
        />
        <Button type="submit" disabled={add.isPending || !words.trim()}>
          <Trans>Add note </Trans>
        </Button>
      </form>
      <Wrong error={add.error ?? remove.error} />
    </section>
  )
}

/** A colleague may have changed the file in the cabinet since: whoever downloads it should know. */
function Changed({ f }: { f: Schemas['Filing'] }) {
  const changed = useQuery({
    queryKey: ['changed', f.entry, f.checked_at],
    retry: false,
    queryFn: async () =>
      (await fetch(address(`/api/v1/register/${f.entry}/file?first=1`))).headers.get('Inktray-Changed-Since-Filed') ===
      'true',
  })
  if (!changed.data) return null
  return (
    <p role="status" className="mb-4 rounded-lg border border-line bg-sheet-2 px-4 py-2 text-[15px]">
      <Trans>Someone changed this file in the cabinet since it was filed. You download the file as it is now.</Trans>
    </p>
  )
}
