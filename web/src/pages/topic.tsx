import { t } from '@lingui/core/macro'
import { Plural, Trans } from '@lingui/react/macro'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useRef, useState } from 'react'
import { Link, useNavigate, useParams } from 'react-router'

import { api, ifMatch, type Schemas, value } from '../api/client'
import { keys, queries } from '../api/queries'
import { Bar, Button, Chip, Field, Listing, Page, Sheet, Wrong } from '../ui/basics'
import { when } from '../ui/format'
import { Meanwhile } from '../ui/meanwhile'
import { MessageHead } from './parts'
import { useMark } from './topicmarks'

/** The topics, in Settings. */
export function Topics() {
  const client = useQueryClient()
  const go = useNavigate()
  const [name, setName] = useState<string | null>(null)
  const file = useRef<HTMLInputElement>(null)
  const all = useQuery(queries.topics)
  const add = useMutation({
    mutationFn: () => value(api.POST('/api/v1/topics', { body: { name: name ?? '' } })),
    onSuccess: async (topic) => {
      await client.invalidateQueries({ queryKey: keys.topics })
      void go(`/topics/${topic.id}`)
    },
  })
  const take = useMutation({
    mutationFn: async (f: File) =>
      value(api.POST('/api/v1/topics/import', { body: JSON.parse(await f.text()) as Schemas['TopicDocument'] })),
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: keys.topics })
    },
  })
  return (
    <section className="mb-10 max-w-4xl">
      <div className="mb-2 flex flex-wrap items-center justify-between gap-2">
        <h2>
          <Trans>Topics</Trans>
        </h2>
        <span className="flex gap-2">
          <input
            ref={file}
            type="file"
            accept=".json,application/json"
            className="sr-only"
            aria-label={t`An exported topic`}
            tabIndex={-1}
            onChange={(e) => {
              if (e.target.files?.[0]) take.mutate(e.target.files[0])
              e.target.value = ''
            }}
          />
          <Button onClick={() => file.current?.click()} disabled={take.isPending}>
            <Trans>Import a topic…</Trans>
          </Button>
          <Button onClick={() => setName('')}>
            <Trans>Add a topic</Trans>
          </Button>
        </span>
      </div>
      <p className="mb-2 text-ink-2">
        <Trans>
          A topic is what messages are about, however they are worded. It learns from messages that you mark. Rules can
          ask for it. Everything stays on this machine.
        </Trans>
      </p>
      <Wrong error={take.error} />
      <Listing query={all} empty={(topics) => topics.length === 0 && t`No topics yet.`}>
        {(list) =>
          list.map((topic) => (
            <div key={topic.id} className="flex flex-wrap items-start justify-between gap-3 border-t border-line py-3">
              <div className="min-w-0 flex-1 basis-80">
                <p>
                  <Link className="font-semibold hover:underline" to={`/topics/${topic.id}`}>
                    {topic.name}
                  </Link>{' '}
                  <span className="text-ink-3">
                    <Trans>
                      <Plural value={topic.about} one="# example" other="# examples" /> about it, {topic.others} not
                    </Trans>
                  </span>
                </p>
                <p className="text-[14.5px] text-ink-2">{topic.sentence}</p>
                {topic.rules.length > 0 && (
                  <p className="text-[13.5px] text-ink-3">
                    <Trans>asked for by {topic.rules.join(', ')}</Trans>
                  </p>
                )}
              </div>
              <Button onClick={() => void go(`/topics/${topic.id}`)} aria-label={t`Teach ${topic.name}`}>
                <Trans>Teach…</Trans>
              </Button>
            </div>
          ))
        }
      </Listing>
      <Sheet
        title={t`Add a topic`}
        open={name !== null}
        onClose={() => {
          setName(null)
          add.reset()
        }}
      >
        <form
          onSubmit={(e) => {
            e.preventDefault()
            add.mutate()
          }}
        >
          <Field
            label={t`Name`}
            required
            value={name ?? ''}
            maxLength={100}
            onChange={(e) => setName(e.target.value)}
            hint={t`Such as Berth requests. Next, mark some messages that are about it, and some that are not.`}
          />
          <Wrong error={add.error} />
          <div className="flex justify-end gap-2">
            <Button onClick={() => setName(null)}>
              <Trans>Cancel</Trans>
            </Button>
            <Button look="main" type="submit" disabled={add.isPending}>
              <Trans>Add topic </Trans>
            </Button>
          </div>
        </form>
      </Sheet>
    </section>
  )
}

/** One topic: how good it is, what teaches it, by what it was taught, what it would take of the past. */
export function TopicPage() {
  const id = useParams().id!
  const client = useQueryClient()
  const go = useNavigate()
  const [asked, setAsked] = useState<'' | 'rename' | 'remove'>('')
  const [name, setName] = useState('')
  const [begun, setBegun] = useState(0)
  const topics = useQuery(queries.topics)
  const settled = {
    onSuccess: () => {
      setAsked('')
      void client.invalidateQueries({ queryKey: keys.topics })
    },
  }
  const rename = useMutation({
    mutationFn: () =>
      value(
        api.PUT('/api/v1/topics/{id}', {
          params: { path: { id }, header: ifMatch(begun) },
          body: { name },
        }),
      ),
    ...settled,
  })
  const remove = useMutation({
    mutationFn: () => value(api.DELETE('/api/v1/topics/{id}', { params: { path: { id } } })),
    onSuccess: () => {
      void go('/settings/topics')
      void client.invalidateQueries({ queryKey: keys.topics })
    },
  })
  const exported = useMutation({
    mutationFn: () => value(api.GET('/api/v1/topics/{id}/export', { params: { path: { id } } })),
    onSuccess: (x) => {
      const a = document.createElement('a')
      a.href = URL.createObjectURL(new Blob([JSON.stringify(x, null, 2)], { type: 'application/json' }))
      a.download = `${x.name}.json`
      a.click()
      URL.revokeObjectURL(a.href)
    },
  })
  return (
    <Listing query={topics}>
      {(all) => {
        const topic = all.find((x) => x.id === id)
        if (!topic)
          return (
            <Page title={t`There is no such topic`} sub={t`It may have been removed.`}>
              <Link className="underline" to="/settings/topics">
                <Trans>All topics</Trans>
              </Link>
            </Page>
          )
        return (
          <Page
            title={topic.name}
            sub={topic.sentence}
            actions={
              <>
                <Button
                  onClick={() => {
                    setName(topic.name)
                    setBegun(topic.revision)
                    setAsked('rename')
                  }}
                >
                  <Trans>Rename…</Trans>
                </Button>
                <Button onClick={() => exported.mutate()} disabled={exported.isPending}>
                  <Trans>Export</Trans>
                </Button>
                <Button onClick={() => setAsked('remove')}>
                  <Trans>Remove…</Trans>
                </Button>
              </>
            }
          >
            <Wrong error={exported.error} />
            {!topic.ready && (
              <div className="mb-5 max-w-xl">
                <Bar
                  label={t`Examples of “${topic.name}”`}
                  done={Math.min(topic.about, topic.needs) + Math.min(topic.others, topic.needs)}
                  of={2 * topic.needs}
                />
                <p className="mt-1 text-sm text-ink-3">
                  <Trans>
                    {topic.about} of {topic.needs} that are about it, {topic.others} of {topic.needs} that are not.
                  </Trans>
                </p>
              </div>
            )}
            {topic.rules.length > 0 && (
              <p className="mb-4 text-ink-2">
                <Trans>Rules that ask for it: {topic.rules.map((r) => `“${r}”`).join(', ')}.</Trans>
              </p>
            )}
            <div className="grid max-w-6xl grid-cols-[minmax(0,1fr)] gap-8 lg:grid-cols-2">
              <div>
                <Teach topic={topic} />
                <Past topic={topic} />
              </div>
              <Examples topic={topic} />
            </div>
            <Sheet title={t`Rename “${topic.name}”`} open={asked === 'rename'} onClose={() => setAsked('')}>
              <form
                onSubmit={(e) => {
                  e.preventDefault()
                  rename.mutate()
                }}
              >
                <Field
                  label={t`Name`}
                  required
                  value={name}
                  maxLength={100}
                  onChange={(e) => setName(e.target.value)}
                />
                <Meanwhile
                  error={rename.error}
                  mine={{ name }}
                  look={() => value(api.GET('/api/v1/topics')).then((l) => l.find((x) => x.id === id))}
                  onMine={(now) => {
                    setBegun(now.revision)
                    rename.reset()
                  }}
                  onTheirs={() => {
                    setAsked('')
                    rename.reset()
                  }}
                />
                <div className="flex justify-end gap-2">
                  <Button onClick={() => setAsked('')}>
                    <Trans>Cancel</Trans>
                  </Button>
                  <Button look="main" type="submit" disabled={rename.isPending}>
                    <Trans>Rename</Trans>
                  </Button>
                </div>
              </form>
            </Sheet>
            <Sheet title={t`Remove “${topic.name}”?`} open={asked === 'remove'} onClose={() => setAsked('')}>
              <p>
                <Trans>
                  Everything it learned from{' '}
                  <Plural value={topic.about + topic.others} one="# example" other="# examples" /> is lost, unless you
                  export the topic first. The messages stay where they are.
                </Trans>
              </p>
              <Wrong error={remove.error} />
              <div className="mt-5 flex justify-end gap-2">
                <Button onClick={() => setAsked('')}>
                  <Trans>Keep it</Trans>
                </Button>
                <Button look="seal" onClick={() => remove.mutate()}>
                  <Trans>Remove</Trans>
                </Button>
              </div>
            </Sheet>
          </Page>
        )
      }}
    </Listing>
  )
}

/** The messages whose answer teaches most. */
function Teach({ topic }: { topic: Schemas['Topic'] }) {
  const query = useQuery(queries.teachings(topic.id))
  const mark = useMark()
  const [done, setDone] = useState<number[]>([])
  const answer = (number: number, about: boolean) =>
    mark.mutate(
      { topic: topic.id, messages: [number], about, origin: 'proposal' },
      { onSuccess: () => setDone((d) => [...d, number]) },
    )
  return (
    <section className="mb-8">
      <h2>
        <Trans>Is this about {topic.name}?</Trans>
      </h2>
      <p className="mb-1 text-sm text-ink-3">
        {topic.ready
          ? t`Ink Tray is least sure about these messages, so your answers teach it most.`
          : t`Answer for some of these, or mark messages in Mail.`}
      </p>
      <Wrong error={mark.error} />
      <Listing query={query} empty={(l) => l.length === 0 && t`You have answered for every message.`}>
        {(list) =>
          list
            .filter((x) => !done.includes(x.message.id))
            .map((x) => (
              <article key={x.message.id} className="border-t border-line py-2.5">
                <MessageHead message={x.message} time={when(x.message.received_at)} />
                <p className="mt-1.5 flex items-center gap-2">
                  <Button
                    disabled={mark.isPending}
                    onClick={() => answer(x.message.id, true)}
                    aria-label={t`Yes: ${x.message.subject}`}
                  >
                    <Trans>Yes</Trans>
                  </Button>
                  <Button
                    disabled={mark.isPending}
                    onClick={() => answer(x.message.id, false)}
                    aria-label={t`No: ${x.message.subject}`}
                  >
                    <Trans>No</Trans>
                  </Button>
                  {topic.ready && (
                    <span className="text-[13.5px] text-ink-3">
                      <Trans>{x.likely} % likely</Trans>
                    </span>
                  )}
                </p>
              </article>
            ))
        }
      </Listing>
    </section>
  )
}

/** Try it on past messages, with the texts. */
function Past({ topic }: { topic: Schemas['Topic'] }) {
  const [last, setLast] = useState(0)
  const query = useQuery({ ...queries.topicPast(topic.id, last, topic.about, topic.others), enabled: last > 0 })
  const of = (answer: string) => query.data?.messages.filter((m) => m.answer === answer) ?? []
  const sure = of('yes'),
    doubt = of('cannot be known')
  return (
    <section>
      <h2>
        <Trans>Try it on past messages</Trans>
      </h2>
      <p className="mb-2 text-sm text-ink-3">
        <Trans>
          Ink Tray reads the last messages of all mailboxes, as a rule would that asks for this topic. It files nothing.
        </Trans>
      </p>
      <p className="flex gap-2">
        {[100, 500].map((n) => (
          <Button key={n} disabled={!topic.ready || query.isFetching} onClick={() => setLast(n)}>
            {query.isFetching && last === n ? t`Looking…` : t`The last ${n}`}
          </Button>
        ))}
      </p>
      <Wrong error={query.error} />
      {query.data && last > 0 && (
        <>
          <p role="status" className="mt-3">
            <Trans>
              Of <Plural value={query.data.looked} one="# message" other="# messages" />,{' '}
              <b className="font-semibold">{sure.length}</b> are about it for sure and{' '}
              <b className="font-semibold">{doubt.length}</b> are in doubt.
            </Trans>
          </p>
          {[...doubt, ...sure].slice(0, 60).map((m) => (
            <article key={m.message.id} className="border-t border-line py-2.5">
              <MessageHead message={m.message} time={when(m.message.received_at)} />
              <p className="mt-0.5 text-[13.5px] [overflow-wrap:anywhere] text-ink-2">
                <Chip word={m.matches ? 'about it' : 'in doubt'} /> {m.reason}
              </p>
            </article>
          ))}
        </>
      )}
    </section>
  )
}

function Examples({ topic }: { topic: Schemas['Topic'] }) {
  const client = useQueryClient()
  const query = useQuery(queries.examples(topic.id))
  const back = useMutation({
    mutationFn: (id: number) =>
      value(api.DELETE('/api/v1/topics/{id}/examples', { params: { path: { id: topic.id }, query: { id: [id] } } })),
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: keys.topics })
    },
  })
  return (
    <section>
      <h2>
        <Trans>Examples</Trans>
      </h2>
      <p className="mb-1 text-sm text-ink-3">
        <Trans>Ink Tray keeps their texts until you remove them.</Trans>
      </p>
      <Wrong error={back.error} />
      <Listing query={query} empty={(l) => l.length === 0 && t`No message was marked yet.`}>
        {(list) =>
          list.map((x) => (
            <article key={x.id} className="grid grid-cols-[minmax(0,1fr)_auto] gap-x-3 border-t border-line py-2.5">
              <div className="min-w-0">
                <p className="truncate font-semibold">
                  {x.message ? (
                    <Link className="hover:underline" to={`/messages/${x.message}`}>
                      {x.subject || t`No subject`}
                    </Link>
                  ) : (
                    x.subject || t`No subject`
                  )}
                </p>
                <p className="truncate text-[13.5px] text-ink-3">
                  {x.sender} · {x.text}
                </p>
                <p className="text-[13.5px] text-ink-3">
                  <Trans>
                    marked by {x.marked_by}, {when(x.marked_at)}
                    {x.origin === 'import' ? t`, imported` : x.origin === 'tray' ? t`, in the tray` : ''}
                  </Trans>
                </p>
              </div>
              <div className="text-right">
                <Chip word={x.about ? 'about it' : 'not about it'} />
                <br />
                <button
                  className="add !text-sm"
                  disabled={back.isPending}
                  aria-label={t`Take back: ${x.subject}`}
                  onClick={() => back.mutate(x.id)}
                >
                  <Trans>Take back</Trans>
                </button>
              </div>
            </article>
          ))
        }
      </Listing>
    </section>
  )
}
