import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Link } from 'react-router'

import { api, type Schemas, value } from '../api/client'
import { keys, queries } from '../api/queries'
import { Button, Chip, Pick, Sheet, Wrong } from '../ui/basics'
import { many } from '../ui/format'

type Marking = { topic: string; messages: number[]; about: boolean; origin: 'mail' | 'rehearsal' | 'proposal' }

/** Says of messages whether they are about a topic, which learns from it. */
export function useMark() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (m: Marking) =>
      value(
        api.POST('/api/v1/topics/{id}/examples', {
          params: { path: { id: m.topic } },
          body: { messages: m.messages, about: m.about, origin: m.origin },
        }),
      ),
    onSuccess: () => {
      for (const queryKey of [keys.topics, keys.message, keys.messageTopics, keys.rehearsal])
        void client.invalidateQueries({ queryKey })
    },
  })
}

/** What each topic makes of a message, by which words, and what a person says of it. */
export function TopicsOf({ number }: { number: number }) {
  const [open, setOpen] = useState(false)
  const topics = useQuery(queries.topics)
  const query = useQuery({ ...queries.messageTopics(number), enabled: open })
  const mark = useMark()
  if (!topics.data?.length) return null
  return (
    <section className="mt-6">
      <div className="flex items-start justify-between gap-3">
        <h2>What it is about</h2>
        {!open && <Button onClick={() => setOpen(true)}>Look</Button>}
      </div>
      {open && query.isPending && (
        <p role="status" className="py-3 text-ink-3">
          Looking…
        </p>
      )}
      <Wrong error={query.error ?? mark.error} />
      {query.data?.map((t) => (
        <div key={t.id} className="border-t border-line py-3 first-of-type:border-0">
          <p className="flex justify-between gap-3 font-semibold">
            <Link className="hover:underline" to={`/topics/${t.id}`}>
              {t.topic}
            </Link>
            <Chip word={t.said === undefined ? t.decision : t.said ? 'about it, you said' : 'not about it, you said'} />
          </p>
          <p className="text-[14.5px] [overflow-wrap:anywhere] text-ink-2">
            {t.likely !== undefined && `${t.likely} % likely. `}
            {t.for.length > 0 && <>For it: {t.for.join(', ')}. </>}
            {t.against.length > 0 && <>Against it: {t.against.join(', ')}.</>}
          </p>
          <p className="mt-1 flex gap-3">
            <button
              className="add"
              disabled={mark.isPending}
              onClick={() => mark.mutate({ topic: t.id, messages: [number], about: true, origin: 'mail' })}
            >
              It is about {t.topic}
            </button>
            <button
              className="add"
              disabled={mark.isPending}
              onClick={() => mark.mutate({ topic: t.id, messages: [number], about: false, origin: 'mail' })}
            >
              It is not
            </button>
          </p>
        </div>
      ))}
    </section>
  )
}

/** Whether it is proven who sent a message. */
export function ProofOf({ number }: { number: number }) {
  const [open, setOpen] = useState(false)
  const query = useQuery({ ...queries.messageProof(number), enabled: open })
  const p = query.data
  return (
    <p className="mb-4 text-[14.5px] text-ink-2" role="status">
      {!open ? (
        <button className="add" onClick={() => setOpen(true)}>
          Is the sender verified?
        </button>
      ) : query.isPending ? (
        'Looking…'
      ) : p ? (
        <>
          <Chip word={p.state} /> The sender is {p.state}: {p.text}.
        </>
      ) : null}
      <Wrong error={query.error} />
    </p>
  )
}

/** Marks chosen messages for a topic. */
export function MarkSheet({ numbers, onClose }: { numbers: number[]; onClose: () => void }) {
  const topics = useQuery(queries.topics)
  const [chosen, setChosen] = useState('')
  const mark = useMark()
  const topic = topics.data?.find((t) => t.id === chosen) ?? topics.data?.[0]
  const say = (about: boolean) => topic && mark.mutate({ topic: topic.id, messages: numbers, about, origin: 'mail' })
  return (
    <Sheet title={`Mark ${many(numbers.length, 'message')} for a topic`} open onClose={onClose}>
      {topics.data?.length === 0 && (
        <p>
          No topics yet.{' '}
          <Link className="text-pen underline" to="/settings/topics">
            Add one in Settings
          </Link>
          .
        </p>
      )}
      {topic &&
        (mark.data ? (
          <p role="status">
            Learned. “{mark.data.name}” knows {many(mark.data.about, 'message')} about it and {mark.data.others} that
            are not. {mark.data.sentence}
          </p>
        ) : (
          <>
            <Pick
              label="Topic"
              value={topic.id}
              onChange={setChosen}
              choices={(topics.data ?? []).map((t): [string, string] => [t.id, t.name])}
            />
            <p className="mb-4 text-ink-2">
              Their subjects, texts, senders and names of attachments are kept as examples, on this machine.
            </p>
          </>
        ))}
      <Wrong error={mark.error} />
      <div className="flex justify-end gap-2">
        <Button onClick={onClose}>{mark.data ? 'Close' : 'Cancel'}</Button>
        {topic && !mark.data && (
          <>
            <Button disabled={mark.isPending} onClick={() => say(false)}>
              They are not about it
            </Button>
            <Button look="main" disabled={mark.isPending} onClick={() => say(true)}>
              They are about it
            </Button>
          </>
        )}
      </div>
    </Sheet>
  )
}

/** In a rehearsal: says of a message whether it is about the topics that the rule asks for. */
export function MarkLine({ topics, message }: { topics: string[]; message: Schemas['Message'] }) {
  const all = useQuery(queries.topics)
  const mark = useMark()
  const found = all.data?.filter((t) => topics.some((n) => n.toLowerCase() === t.name.toLowerCase())) ?? []
  if (!message.id || found.length === 0) return null
  return (
    <>
      {found.map((t) => (
        <p key={t.id} className="mt-1 flex flex-wrap gap-x-3 text-[13.5px]">
          <button
            className="add !p-0"
            disabled={mark.isPending}
            aria-label={`It is about ${t.name}: ${message.subject}`}
            onClick={() => mark.mutate({ topic: t.id, messages: [message.id], about: true, origin: 'rehearsal' })}
          >
            It is about {t.name}
          </button>
          <button
            className="add !p-0"
            disabled={mark.isPending}
            aria-label={`It is not about ${t.name}: ${message.subject}`}
            onClick={() => mark.mutate({ topic: t.id, messages: [message.id], about: false, origin: 'rehearsal' })}
          >
            It is not
          </button>
        </p>
      ))}
      <Wrong error={mark.error} />
    </>
  )
}
