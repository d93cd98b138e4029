import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import type { ReactNode } from 'react'

import { Blank, Tick } from '../ui/basics'
import { labelOf } from '../ui/labels'
import { type Known, orList, TextList } from './blanks'
import { list, type Reply, type Step, type Tell, type Texts } from './document'

type Wrong = (place: string) => string[]
type Kind = 'mark' | 'label' | 'remove label' | 'reply' | 'draft' | 'tell' | 'move'
const kinds: [Kind, string, Step][] = [
  ['mark', t`mark it…`, { mark: 'read' }],
  ['label', t`label it…`, { label: t`Filed` }],
  ['remove label', t`take a label off…`, { 'remove label': [] }],
  ['move', t`move it…`, { move: t`Filed/<received year>` }],
  [
    'reply',
    t`reply to the sender…`,
    {
      reply: {
        text: t`Thank you for your message. We have filed:

<filed.list>
`,
      },
    },
  ],
  [
    'draft',
    t`leave a draft reply…`,
    {
      draft: {
        text: t`Dear <sender.name>,

`,
      },
    },
  ],
  ['tell', t`notify people…`, { tell: { who: [] } }],
]
const marks: [string, string][] = [
  ['read', t`read`],
  ['unread', t`unread`],
  ['flagged', t`flagged`],
  ['not flagged', t`not flagged`],
]
const one = (v: string[]): Texts => (v.length === 1 ? v[0] : v)

/** What is done with the message once its attachments are filed. */
export function Afterwards({
  steps,
  known,
  wrong,
  onChange,
}: {
  steps: Step[]
  known: Known
  wrong: Wrong
  onChange: (s: Step[]) => void
}) {
  const set = (i: number, key: Kind, v: unknown) => {
    const next = { ...steps[i], [key]: v }
    if (v === undefined) delete next[key]
    onChange(Object.keys(next).length ? steps.map((s, k) => (k === i ? next : s)) : steps.filter((_, k) => k !== i))
  }
  const lines = steps.flatMap((s, i) => kinds.filter(([k]) => s[k] !== undefined).map(([k]) => ({ i, k, s })))
  const has = (k: Kind) => lines.some((l) => l.k === k)
  return (
    <>
      {lines.length === 0 && (
        <p>
          <Trans>the message stays as it is.</Trans>
        </p>
      )}
      {lines.map(({ i, k, s }) => {
        const told = wrong(`afterwards[${i}].${k}`)
        const out = (
          <p className="mt-3 border-t border-line pt-3">
            <button className="add !text-seal" onClick={() => set(i, k, undefined)}>
              <Trans>Remove this step</Trans>
            </button>
          </p>
        )
        const line = (before: string, label: string, text: string, inner: ReactNode) => (
          <p key={`${i} ${k}`}>
            {before}{' '}
            <Blank label={label} text={text} wrong={told}>
              {inner}
              {out}
            </Blank>
          </p>
        )
        switch (k) {
          case 'mark': {
            const v = list(s.mark)
            return line(
              t`mark it`,
              t`Marks`,
              orList(v.map(labelOf), 'and'),
              marks.map(([m, w]) => (
                <Tick
                  key={m}
                  label={w}
                  checked={v.includes(m)}
                  onChange={(yes) =>
                    set(i, k, one(yes ? [...v.filter((x) => !opposite(x, m)), m] : v.filter((x) => x !== m)))
                  }
                />
              )),
            )
          }
          case 'label':
          case 'remove label':
            return line(
              k === 'label' ? t`put on the label` : t`take off the label`,
              k === 'label' ? t`Labels put on` : t`Labels taken off`,
              orList(list(s[k]), 'and'),
              <TextList
                label={t`Another label`}
                values={list(s[k])}
                offered={known.choices?.labels ?? []}
                about={t`Labels on messages:`}
                onChange={(v) => set(i, k, one(v))}
              />,
            )
          case 'move':
            return line(
              t`move it to the mail folder`,
              t`Mail folder`,
              s.move ?? '',
              <>
                <label className="block text-sm font-semibold">
                  <Trans>
                    Mail folder
                    <input
                      className="field mt-1 font-normal"
                      value={s.move}
                      onChange={(e) => set(i, k, e.target.value)}
                    />
                  </Trans>
                </label>
                <p className="mt-1 text-sm text-ink-3">
                  <Trans>
                    Ink Tray creates the folder if it is missing. You can use fields, such as received year.
                  </Trans>
                </p>
                <p className="mt-2">
                  {known.folders
                    .filter((f) => f !== s.move)
                    .slice(0, 8)
                    .map((f) => (
                      <button key={f} className="add mr-2" onClick={() => set(i, k, f)}>
                        {f}
                      </button>
                    ))}
                </p>
              </>,
            )
          case 'reply':
          case 'draft':
            return line(
              k === 'reply' ? t`reply to the sender with` : t`leave among the drafts a reply with`,
              k === 'reply' ? t`Reply` : t`Draft of a reply`,
              short(s[k]?.text),
              <LetterOf letter={s[k]!} once={k === 'reply'} onChange={(v) => set(i, k, v)} />,
            )
          default:
            return line(
              'tell',
              t`Who gets it`,
              orList(list(s.tell?.who), 'and'),
              <TellOf tell={s.tell!} people={known.people} onChange={(v) => set(i, k, v)} />,
            )
        }
      })}
      <p className="leading-normal">
        {kinds
          .filter(([k]) => !(has(k) && ['mark', 'move', 'label', 'remove label'].includes(k)))
          .map(([k, words, fresh]) => (
            <span key={k}>
              <button className="add" onClick={() => onChange([...steps, fresh])}>
                + {words}
              </button>{' '}
            </span>
          ))}
      </p>
    </>
  )
}

const opposite = (a: string, b: string) => a !== b && ['read', 'unread'].includes(a) === ['read', 'unread'].includes(b)
const short = (text = '') => {
  const line = text.trim().split('\n')[0]
  return line.length > 40 ? `${line.slice(0, 40)}…` : line
}
const fields = [
  '<sender.name>',
  '<subject>',
  '<received date>',
  '<filed.list>',
  '<filed.count>',
  '<correspondent>',
  '<mailbox>',
]

function Text({
  label,
  value,
  placeholder,
  onChange,
}: {
  label: string
  value: string
  placeholder?: string
  onChange: (v: string) => void
}) {
  return (
    <>
      <label className="block text-sm font-semibold">
        {label}
        <textarea
          className="field mt-1 font-normal"
          rows={6}
          placeholder={placeholder}
          value={value}
          onChange={(e) => onChange(e.target.value)}
        />
      </label>
      <p className="mt-1 text-sm text-ink-3">
        <Trans>
          Fields:{' '}
          {fields.map((f) => (
            <button key={f} className="add mr-2 !text-sm !font-normal" onClick={() => onChange(value + f)}>
              {f}
            </button>
          ))}
        </Trans>
      </p>
    </>
  )
}

function LetterOf({ letter, once, onChange }: { letter: Reply; once: boolean; onChange: (l: Reply) => void }) {
  const put = (changes: Partial<Reply>) => {
    const next = { ...letter, ...changes }
    if (!next.subject) delete next.subject
    if (!next['once in']) delete next['once in']
    onChange(next)
  }
  return (
    <>
      <label className="mb-3 block text-sm font-semibold">
        <Trans>
          Subject
          <input
            className="field mt-1 font-normal"
            placeholder={t`Re: <subject>`}
            value={letter.subject ?? ''}
            onChange={(e) => put({ subject: e.target.value })}
          />
        </Trans>
      </label>
      <Text label={t`Text`} value={letter.text} onChange={(text) => put({ text })} />
      {once && (
        <label className="mt-3 block text-sm font-semibold">
          <Trans>
            At most one to a sender in
            <input
              className="field mt-1 font-normal"
              placeholder={t`7 days`}
              value={letter['once in'] ?? ''}
              onChange={(e) => put({ 'once in': e.target.value })}
            />
          </Trans>
        </label>
      )}
      <p className="mt-2 text-sm text-ink-3">
        <Trans>Mailing lists, programs and reports never get a reply.</Trans>
      </p>
    </>
  )
}

function TellOf({ tell, people, onChange }: { tell: Tell; people: string[]; onChange: (next: Tell) => void }) {
  const who = list(tell.who)
  const put = (changes: Partial<Tell>) => {
    const next = { ...tell, ...changes }
    if (!next.subject) delete next.subject
    if (!next.text) delete next.text
    onChange(next)
  }
  return (
    <>
      <p className="mb-1 text-sm font-semibold">
        <Trans>Who gets it</Trans>
      </p>
      {people.length === 0 && (
        <p className="text-ink-2">
          <Trans>Nobody can be told yet. Add people in Settings, Notifications.</Trans>
        </p>
      )}
      {[...new Set([...people, ...who])].map((p) => (
        <Tick
          key={p}
          label={p}
          checked={who.includes(p)}
          onChange={(yes) => put({ who: one(yes ? [...who, p] : who.filter((x) => x !== p)) })}
        />
      ))}
      <label className="my-3 block text-sm font-semibold">
        <Trans>
          Subject
          <input
            className="field mt-1 font-normal"
            placeholder="<filed.count> filed from <sender.name>"
            value={tell.subject ?? ''}
            onChange={(e) => put({ subject: e.target.value })}
          />
        </Trans>
      </label>
      <Text
        label={t`Text`}
        value={tell.text ?? ''}
        placeholder={t`From <sender.name>, received <received date>: <subject>

<filed.list>`}
        onChange={(text) => put({ text })}
      />
    </>
  )
}
