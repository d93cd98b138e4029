import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useRef, useState } from 'react'
import { Link, useNavigate, useParams } from 'react-router'

import { api, ifMatch, type Schemas, value } from '../api/client'
import { keys, queries } from '../api/queries'
import { Bar, Button, Chip, Field, Listing, Page, Sheet, Wrong } from '../ui/basics'
import { many, when } from '../ui/format'
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
    onSuccess: async (t) => {
      await client.invalidateQueries({ queryKey: keys.topics })
      void go(`/topics/${t.id}`)
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
        <h2>Topics</h2>
        <span className="flex gap-2">
          <input
            ref={file}
            type="file"
            accept=".json,application/json"
            className="sr-only"
            aria-label="An exported topic"
            tabIndex={-1}
            onChange={(e) => {
              if (e.target.files?.[0]) take.mutate(e.target.files[0])
              e.target.value = ''
            }}
          />
          <Button onClick={() => file.current?.click()} disabled={take.isPending}>
            Import a topic…
          </Button>
          <Button onClick={() => setName('')}>Add a topic</Button>
        </span>
      </div>
      <p className="mb-2 text-ink-2">
        A topic is what messages are about, however they are worded. It learns from messages that you mark. Rules can
        ask for it. Everything stays on this machine.
      </p>
      <Wrong error={take.error} />
      <Listing query={all} empty={(t) => t.length === 0 && 'No topics yet.'}>
        {(list) =>
          list.map((t) => (
            <div key={t.id} className="flex flex-wrap items-start justify-between gap-3 border-t border-line py-3">
              <div className="min-w-0 flex-1 basis-80">
                <p>
                  <Link className="font-semibold hover:underline" to={`/topics/${t.id}`}>
                    {t.name}
                  </Link>{' '}
                  <span className="text-ink-3">
                    {many(t.about, 'example')} about it, {t.others} not
                  </span>
                </p>
                <p className="text-[14.5px] text-ink-2">{t.sentence}</p>
                {t.rules.length > 0 && <p className="text-[13.5px] text-ink-3">asked for by {t.rules.join(', ')}</p>}
              </div>
              <Button onClick={() => void go(`/topics/${t.id}`)} aria-label={`Teach ${t.name}`}>
                Teach…
              </Button>
            </div>
          ))
        }
      </Listing>
      <Sheet
        title="Add a topic"
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
            label="Name"
            required
            value={name ?? ''}
            maxLength={100}
            onChange={(e) => setName(e.target.value)}
            hint="Such as Berth requests. Next, mark some messages that are about it, and some that are not."
          />
          <Wrong error={add.error} />
          <div className="flex justify-end gap-2">
            <Button onClick={() => setName(null)}>Cancel</Button>
            <Button look="main" type="submit" disabled={add.isPending}>
              Add topic{' '}
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
        const t = all.find((x) => x.id === id)
        if (!t)
          return (
            <Page title="There is no such topic" sub="It may have been removed.">
              <Link className="underline" to="/settings/topics">
                All topics
              </Link>
            </Page>
          )
        return (
          <Page
            title={t.name}
            sub={t.sentence}
            actions={
              <>
                <Button
                  onClick={() => {
                    setName(t.name)
                    setBegun(t.revision)
                    setAsked('rename')
                  }}
                >
                  Rename…
                </Button>
                <Button onClick={() => exported.mutate()} disabled={exported.isPending}>
                  Export
                </Button>
                <Button onClick={() => setAsked('remove')}>Remove…</Button>
              </>
            }
          >
            <Wrong error={exported.error} />
            {!t.ready && (
              <div className="mb-5 max-w-xl">
                <Bar
                  label={`Examples of “${t.name}”`}
                  done={Math.min(t.about, t.needs) + Math.min(t.others, t.needs)}
                  of={2 * t.needs}
                />
                <p className="mt-1 text-sm text-ink-3">
                  {t.about} of {t.needs} that are about it, {t.others} of {t.needs} that are not.
                </p>
              </div>
            )}
            {t.rules.length > 0 && (
              <p className="mb-4 text-ink-2">
                Asked for by the {t.rules.length > 1 ? 'rules' : 'rule'} {t.rules.map((r) => `“${r}”`).join(', ')}.
              </p>
            )}
            <div className="grid max-w-6xl grid-cols-[minmax(0,1fr)] gap-8 lg:grid-cols-2">
              <div>
                <Teach topic={t} />
                <Past topic={t} />
              </div>
              <Examples topic={t} />
            </div>
            <Sheet title={`Rename “${t.name}”`} open={asked === 'rename'} onClose={() => setAsked('')}>
              <form
                onSubmit={(e) => {
                  e.preventDefault()
                  rename.mutate()
                }}
              >
                <Field label="Name" required value={name} maxLength={100} onChange={(e) => setName(e.target.value)} />
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
                  <Button onClick={() => setAsked('')}>Cancel</Button>
                  <Button look="main" type="submit" disabled={rename.isPending}>
                    Rename
                  </Button>
                </div>
              </form>
            </Sheet>
            <Sheet title={`Remove “${t.name}”?`} open={asked === 'remove'} onClose={() => setAsked('')}>
              <p>
                Everything it learned from {many(t.about + t.others, 'example')} is lost, unless you export the topic
                first. The messages stay where they are.
              </p>
              <Wrong error={remove.error} />
              <div className="mt-5 flex justify-end gap-2">
                <Button onClick={() => setAsked('')}>Keep it</Button>
                <Button look="seal" onClick={() => remove.mutate()}>
                  Remove
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
      <h2>Is this about {topic.name}?</h2>
      <p className="mb-1 text-sm text-ink-3">
        {topic.ready
          ? 'Ink Tray is least sure about these messages, so your answers teach it most.'
          : 'Answer for some of these, or mark messages in Mail.'}
      </p>
      <Wrong error={mark.error} />
      <Listing query={query} empty={(l) => l.length === 0 && 'You have answered for every message.'}>
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
                    aria-label={`Yes: ${x.message.subject}`}
                  >
                    Yes
                  </Button>
                  <Button
                    disabled={mark.isPending}
                    onClick={() => answer(x.message.id, false)}
                    aria-label={`No: ${x.message.subject}`}
                  >
                    No
                  </Button>
                  {topic.ready && <span className="text-[13.5px] text-ink-3">{x.likely} % likely</span>}
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
      <h2>Try it on past messages</h2>
      <p className="mb-2 text-sm text-ink-3">
        Ink Tray reads the last messages of all mailboxes, as a rule would that asks for this topic. It files nothing.
      </p>
      <p className="flex gap-2">
        {[100, 500].map((n) => (
          <Button key={n} disabled={!topic.ready || query.isFetching} onClick={() => setLast(n)}>
            {query.isFetching && last === n ? 'Looking…' : `The last ${n}`}
          </Button>
        ))}
      </p>
      <Wrong error={query.error} />
      {query.data && last > 0 && (
        <>
          <p role="status" className="mt-3">
            Of {many(query.data.looked, 'message')}, <b className="font-semibold">{sure.length}</b> are about it for
            sure and <b className="font-semibold">{doubt.length}</b> are in doubt.
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
      <h2>Examples</h2>
      <p className="mb-1 text-sm text-ink-3">Ink Tray keeps their texts until you remove them.</p>
      <Wrong error={back.error} />
      <Listing query={query} empty={(l) => l.length === 0 && 'No message was marked yet.'}>
        {(list) =>
          list.map((x) => (
            <article key={x.id} className="grid grid-cols-[minmax(0,1fr)_auto] gap-x-3 border-t border-line py-2.5">
              <div className="min-w-0">
                <p className="truncate font-semibold">
                  {x.message ? (
                    <Link className="hover:underline" to={`/messages/${x.message}`}>
                      {x.subject || 'No subject'}
                    </Link>
                  ) : (
                    x.subject || 'No subject'
                  )}
                </p>
                <p className="truncate text-[13.5px] text-ink-3">
                  {x.sender} · {x.text}
                </p>
                <p className="text-[13.5px] text-ink-3">
                  marked by {x.marked_by}, {when(x.marked_at)}
                  {x.origin === 'import' ? ', imported' : x.origin === 'tray' ? ', in the tray' : ''}
                </p>
              </div>
              <div className="text-right">
                <Chip word={x.about ? 'about it' : 'not about it'} />
                <br />
                <button
                  className="add !text-sm"
                  disabled={back.isPending}
                  aria-label={`Take back: ${x.subject}`}
                  onClick={() => back.mutate(x.id)}
                >
                  Take back
                </button>
              </div>
            </article>
          ))
        }
      </Listing>
    </section>
  )
}
