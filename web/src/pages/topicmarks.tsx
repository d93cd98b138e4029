import { plural, t } from '@lingui/core/macro'
import { Plural, Trans } from '@lingui/react/macro'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Link } from 'react-router'

import { api, type Schemas, value } from '../api/client'
import { keys, queries } from '../api/queries'
import { Button, Chip, Pick, Sheet, Wrong } from '../ui/basics'
import { labelOf } from '../ui/labels'

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
        <h2>
          <Trans>What it is about</Trans>
        </h2>
        {!open && (
          <Button onClick={() => setOpen(true)}>
            <Trans>Look</Trans>
          </Button>
        )}
      </div>
      {open && query.isPending && (
        <p role="status" className="py-3 text-ink-3">
          <Trans>Looking…</Trans>
        </p>
      )}
      <Wrong error={query.error ?? mark.error} />
      {query.data?.map((likeness) => (
        <div key={likeness.id} className="border-t border-line py-3 first-of-type:border-0">
          <p className="flex justify-between gap-3 font-semibold">
            <Link className="hover:underline" to={`/topics/${likeness.id}`}>
              {likeness.topic}
            </Link>
            <Chip
              word={
                likeness.said === undefined
                  ? likeness.decision
                  : likeness.said
                    ? 'about it, you said'
                    : 'not about it, you said'
              }
            />
          </p>
          <p className="text-[14.5px] [overflow-wrap:anywhere] text-ink-2">
            {likeness.likely !== undefined && t`${likeness.likely} % likely. `}
            {likeness.for.length > 0 && <Trans>For it: {likeness.for.join(', ')}. </Trans>}
            {likeness.against.length > 0 && <Trans>Against it: {likeness.against.join(', ')}.</Trans>}
          </p>
          <p className="mt-1 flex gap-3">
            <button
              className="add"
              disabled={mark.isPending}
              onClick={() => mark.mutate({ topic: likeness.id, messages: [number], about: true, origin: 'mail' })}
            >
              <Trans>It is about {likeness.topic}</Trans>
            </button>
            <button
              className="add"
              disabled={mark.isPending}
              onClick={() => mark.mutate({ topic: likeness.id, messages: [number], about: false, origin: 'mail' })}
            >
              <Trans>It is not</Trans>
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
          <Trans>Is the sender verified?</Trans>
        </button>
      ) : query.isPending ? (
        t`Looking…`
      ) : p ? (
        <Trans>
          <Chip word={p.state} /> The sender is {labelOf(p.state)}: {p.text}.
        </Trans>
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
  const topic = topics.data?.find((topic) => topic.id === chosen) ?? topics.data?.[0]
  const say = (about: boolean) => topic && mark.mutate({ topic: topic.id, messages: numbers, about, origin: 'mail' })
  return (
    <Sheet
      title={t`Mark ${plural(numbers.length, { one: '# message', other: '# messages' })} for a topic`}
      open
      onClose={onClose}
    >
      {topics.data?.length === 0 && (
        <p>
          <Trans>
            No topics yet.{' '}
            <Link className="text-pen underline" to="/settings/topics">
              Add one in Settings
            </Link>
            .
          </Trans>
        </p>
      )}
      {topic &&
        (mark.data ? (
          <p role="status">
            <Trans>
              Learned. “{mark.data.name}” knows <Plural value={mark.data.about} one="# message" other="# messages" />{' '}
              about it and {mark.data.others} that are not. {mark.data.sentence}
            </Trans>
          </p>
        ) : (
          <>
            <Pick
              label={t`Topic`}
              value={topic.id}
              onChange={setChosen}
              choices={(topics.data ?? []).map((topic): [string, string] => [topic.id, topic.name])}
            />
            <p className="mb-4 text-ink-2">
              <Trans>
                Their subjects, texts, senders and names of attachments are kept as examples, on this machine.
              </Trans>
            </p>
          </>
        ))}
      <Wrong error={mark.error} />
      <div className="flex justify-end gap-2">
        <Button onClick={onClose}>{mark.data ? t`Close` : t`Cancel`}</Button>
        {topic && !mark.data && (
          <>
            <Button disabled={mark.isPending} onClick={() => say(false)}>
              <Trans>They are not about it</Trans>
            </Button>
            <Button look="main" disabled={mark.isPending} onClick={() => say(true)}>
              <Trans>They are about it</Trans>
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
  const found = all.data?.filter((topic) => topics.some((n) => n.toLowerCase() === topic.name.toLowerCase())) ?? []
  if (!message.id || found.length === 0) return null
  return (
    <>
      {found.map((topic) => (
        <p key={topic.id} className="mt-1 flex flex-wrap gap-x-3 text-[13.5px]">
          <button
            className="add !p-0"
            disabled={mark.isPending}
            aria-label={t`It is about ${topic.name}: ${message.subject}`}
            onClick={() => mark.mutate({ topic: topic.id, messages: [message.id], about: true, origin: 'rehearsal' })}
          >
            <Trans>It is about {topic.name}</Trans>
          </button>
          <button
            className="add !p-0"
            disabled={mark.isPending}
            aria-label={t`It is not about ${topic.name}: ${message.subject}`}
            onClick={() => mark.mutate({ topic: topic.id, messages: [message.id], about: false, origin: 'rehearsal' })}
          >
            <Trans>It is not</Trans>
          </button>
        </p>
      ))}
      <Wrong error={mark.error} />
    </>
  )
}
