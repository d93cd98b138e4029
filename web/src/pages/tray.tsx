import { plural, t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'

import { apiAt, type Schemas, value } from '../api/client'
import { keys, queries } from '../api/queries'
import { Button, Field, Listing, Page, Pick, Sheet, Wrong } from '../ui/basics'
import { figure } from '../ui/format'
import { End, useSettings } from '../ui/form'
import { Machines, Of, To, useOffice } from '../ui/office'
import { size, when } from '../ui/format'
import { Term } from '../ui/term'
import { SignInAgain } from './mailboxes'
import { MessageHead } from './parts'

/** What is decided, and at which machine; none is the one that the pages are of. */
type Choice = { at?: string; what: { matters?: string[]; cause?: string } }
type Way = Schemas['Matter']['ways'][number]
const words: Record<Way, [string, string]> = {
  answer: [t`It is about it`, ''],
  again: [t`Try again`, t`Try all again`],
  release: [t`Release`, t`Release all`],
  elsewhere: [t`File elsewhere…`, t`File all elsewhere…`],
  refile: [t`File it again`, t`File all again`],
  aside: [t`Set aside…`, t`Set all aside…`],
}
const word = (w: Way, filed?: string) => (w === 'again' && filed ? [t`Look again`, t`Look at all again`] : words[w])

export function Tray() {
  const client = useQueryClient()
  const [asked, setAsked] = useState<{ way: 'aside' | 'elsewhere'; choice: Choice; count: number } | null>(null)
  const query = useQuery(queries.tray)
  const { away } = useOffice()
  const done = { onSuccess: () => client.invalidateQueries({ queryKey: keys.tray }) }
  const again = useMutation({
    mutationFn: ({ at, what: body }: Choice) => value(apiAt(at).POST('/api/v1/tray/again', { body })),
    ...done,
  })
  const release = useMutation({
    mutationFn: ({ at, what: body }: Choice) => value(apiAt(at).POST('/api/v1/tray/release', { body })),
    ...done,
  })
  const refile = useMutation({
    mutationFn: ({ at, what: body }: Choice) => value(apiAt(at).POST('/api/v1/tray/refile', { body })),
    ...done,
  })
  const answer = useMutation({
    mutationFn: ({ at, ...body }: { at?: string; matters: string[]; about: boolean }) =>
      value(apiAt(at).POST('/api/v1/tray/answer', { body })),
    onSuccess: () => client.invalidateQueries(),
  })
  const settle = useMutation({
    mutationFn: ({ at, number }: { at?: string; number: number }) =>
      value(apiAt(at).DELETE('/api/v1/tray/notices/{number}', { params: { path: { number } } })),
    ...done,
  })
  const go = (way: Way, choice: Choice, count: number) => {
    if (way === 'again') again.mutate(choice)
    else if (way === 'release') release.mutate(choice)
    else if (way === 'refile') refile.mutate(choice)
    else if (way === 'aside' || way === 'elsewhere') setAsked({ way, choice, count })
  }
  return (
    <Page
      title={t`Tray`}
      sub={
        <>
          {query.data?.count
            ? t`${plural(query.data.count, { one: '# item waits', other: '# items wait' })} for you.`
            : t`Items that need a person wait here, each with its reason and what you can do.`}{' '}
          <Term word="tray" question={t`What is the tray?`} />
        </>
      }
    >
      <Wrong error={again.error ?? release.error ?? refile.error ?? answer.error ?? settle.error} />
      <Machines missing={query.data?.missing} />
      <Listing query={query} empty={(tray) => tray.count === 0 && t`The tray is empty. Nothing waits for you.`}>
        {(tray) => (
          <div className="max-w-4xl">
            {tray.notices.map((n) => (
              <section key={`${n.machine} ${n.id}`} className="mb-4 rounded-xl border border-line bg-sheet-2 p-5">
                <p className="font-semibold">
                  {n.text} <Of machine={n.machine} />
                </p>
                <p className="mt-1 text-ink-2">{n.advice}</p>
                <p className="mt-3 flex items-center justify-between text-sm text-ink-3">
                  <Trans>
                    since {when(n.made_at)}
                    <span className="flex gap-2">
                      {n.kind === 'consent' && n.mailbox && !away(n.machine) && <SignInAgain mailbox={n.mailbox} />}
                      <Button onClick={() => settle.mutate({ at: away(n.machine), number: n.id })}>Seen</Button>
                    </span>
                  </Trans>
                </p>
              </section>
            ))}
            {tray.groups.map((g) => (
              <Group
                key={`${g.machine} ${g.cause}`}
                group={g}
                go={(way, what, count) => go(way, { at: away(g.machine), what }, count)}
                answer={(m, about) => answer.mutate({ at: away(g.machine), matters: [m], about })}
                busy={answer.isPending}
              />
            ))}
          </div>
        )}
      </Listing>
      {asked?.way === 'aside' && <Aside {...asked} onClose={() => setAsked(null)} />}
      {asked?.way === 'elsewhere' && <Elsewhere {...asked} onClose={() => setAsked(null)} />}
    </Page>
  )
}

function Group({
  group: g,
  go,
  answer,
  busy,
}: {
  group: Schemas['TrayGroup']
  go: (way: Way, what: Choice['what'], count: number) => void
  answer: (matter: string, about: boolean) => void
  busy: boolean
}) {
  return (
    <section
      aria-label={g.machine ? `${g.title}, ${g.machine}` : g.title}
      className="mb-4 rounded-xl border border-line bg-sheet-2 p-5"
    >
      <div className="flex flex-wrap items-start justify-between gap-3">
        <div className="min-w-0 flex-1 basis-80">
          <h2 className="!text-[17px]">
            {g.title}
            {g.count > 1 && <span className="font-normal text-ink-3"> · {g.count}</span>} <Of machine={g.machine} />
          </h2>
          <p className="mt-1 text-ink-2">{g.help}</p>
        </div>
        {g.count > 1 && (
          <div className="flex flex-wrap gap-2">
            {g.ways
              .filter((w) => w !== 'answer')
              .toReversed()
              .map((w) => (
                <Button
                  key={w}
                  look={w === 'again' ? 'main' : 'plain'}
                  onClick={() => go(w, { cause: g.cause }, g.count)}
                >
                  {word(w, g.matters[0]?.register)[1]}
                </Button>
              ))}
          </div>
        )}
      </div>
      {g.matters.map((m) => (
        <div key={m.id} className="mt-3 border-t border-line pt-3">
          {m.message && <MessageHead message={m.message} time={when(m.message.received_at)} of={g.machine} />}
          <div className="mt-2 ml-3 border-l-2 border-line-2 pl-3">
            <p className="[overflow-wrap:anywhere]">
              {m.register ? (
                <To className="hover:underline" of={g.machine} to={`/register/${m.register}`}>
                  {m.path}
                </To>
              ) : (
                m.name
              )}{' '}
              <span className="text-[13.5px] text-ink-3">
                {!!m.size && size(m.size)}
                {m.rule && t` · rule “${m.rule}”`}
              </span>
            </p>
            <p className="text-[14.5px] [overflow-wrap:anywhere] text-ink-2">
              <span className="inline-block first-letter:uppercase">{m.reason}.</span>
            </p>
            {m.topic && m.ways.includes('answer') && (
              <p className="mt-2 flex flex-wrap items-center gap-2">
                <Button
                  disabled={busy}
                  onClick={() => answer(m.id, true)}
                  aria-label={t`It is about ${m.topic}: ${m.name}`}
                >
                  <Trans>It is about {m.topic}</Trans>
                </Button>
                <Button
                  disabled={busy}
                  onClick={() => answer(m.id, false)}
                  aria-label={t`It is not about ${m.topic}: ${m.name}`}
                >
                  <Trans>It is not</Trans>
                </Button>
              </p>
            )}
            <p className="mt-1.5 flex flex-wrap gap-x-4 gap-y-1">
              {m.ways
                .filter((w) => w !== 'answer')
                .map((w) => (
                  <button
                    key={w}
                    className="add"
                    aria-label={`${word(w, m.register)[0]}: ${m.name}`}
                    onClick={() => go(w, { matters: [m.id] }, 1)}
                  >
                    {word(w, m.register)[0]}
                  </button>
                ))}
            </p>
          </div>
        </div>
      ))}
      {g.count > g.matters.length && (
        <p className="mt-3 border-t border-line pt-3 text-sm text-ink-3">
          <Trans>And {figure(g.count - g.matters.length)} more.</Trans>
        </p>
      )}
    </section>
  )
}

function Aside({ choice, count, onClose }: { choice: Choice; count: number; onClose: () => void }) {
  const client = useQueryClient()
  const [note, setNote] = useState('')
  const aside = useMutation({
    mutationFn: () => value(apiAt(choice.at).POST('/api/v1/tray/aside', { body: { ...choice.what, note } })),
    onSuccess: () => {
      void client.invalidateQueries()
      onClose()
    },
  })
  return (
    <Sheet title={count > 1 ? t`Set ${count} items aside?` : t`Set it aside?`} open onClose={onClose}>
      <form
        onSubmit={(e) => {
          e.preventDefault()
          aside.mutate()
        }}
      >
        <p className="mb-4">
          <Trans>It leaves the tray, and Ink Tray files nothing of it. The message stays where it is.</Trans>
        </p>
        <Field
          label={t`Reason, for colleagues who look later`}
          value={note}
          maxLength={500}
          onChange={(e) => setNote(e.target.value)}
        />
        <Wrong error={aside.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>
            <Trans>Keep it</Trans>
          </Button>
          <Button look="seal" type="submit" disabled={aside.isPending}>
            <Trans>Set aside</Trans>
          </Button>
        </div>
      </form>
    </Sheet>
  )
}

function Elsewhere({ choice, count, onClose }: { choice: Choice; count: number; onClose: () => void }) {
  const cabinets = useQuery(queries.cabinetsOf(choice.at))
  const chosen = (cabinet: string) => cabinet || cabinets.data?.[0]?.name || ''
  const form = useSettings({
    values: { cabinet: '', folder: t`Sorted by hand` },
    save: ({ cabinet, folder }) =>
      value(
        apiAt(choice.at).POST('/api/v1/tray/elsewhere', { body: { ...choice.what, cabinet: chosen(cabinet), folder } }),
      ),
    saved: onClose,
  })
  const at = chosen(form.now.cabinet)
  return (
    <Sheet title={count > 1 ? t`File ${count} items elsewhere` : t`File it elsewhere`} open onClose={onClose}>
      <form onSubmit={form.submit}>
        <p className="mb-4">
          <Trans>Ink Tray files it unchanged, under its own name.</Trans>
        </p>
        <Pick
          label={t`Cabinet`}
          choices={(cabinets.data ?? []).map((c) => [c.name, c.name])}
          {...form.held('cabinet')}
          value={at}
        />
        <Field
          label={t`Folder`}
          required
          hint={t`Separate levels by /. Ink Tray creates missing folders.`}
          {...form.bind('folder')}
        />
        <End of={form} label={t`File it`} disabled={!at} onClose={onClose} />
      </form>
    </Sheet>
  )
}
