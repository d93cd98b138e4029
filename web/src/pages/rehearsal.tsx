import { plural, t } from '@lingui/core/macro'
import { Plural, Trans } from '@lingui/react/macro'
import { useState } from 'react'

import { Problem, type Schemas } from '../api/client'
import { Chip, Tick, Wrong } from '../ui/basics'
import { size, when } from '../ui/format'
import { ItemLine, MessageHead, Steps } from './parts'
import { MarkLine } from './topicmarks'

/** On which messages a rehearsal is made. Nothing said is the last ones that are known. */
export type Scope = {
  last?: number
  since?: string
  until?: string
  message?: number
  thorough?: boolean
  show?: number
}

/** How many messages a rehearsal can show. */
const mostShown = 50000

const spans: [string, string, Scope][] = [
  ['known', t`the last 50`, {}],
  ['100', t`the last 100`, { last: 100 }],
  ['1000', t`the last 1,000`, { last: 1000 }],
  ['days', t`days…`, { since: '' }],
  ['one', t`one message`, {}],
]

function ScopeLine({ scope, setScope }: { scope: Scope; setScope: (s: Scope) => void }) {
  const which = scope.message
    ? 'one'
    : scope.since !== undefined || scope.until !== undefined
      ? 'days'
      : scope.last
        ? String(scope.last)
        : 'known'
  const day = (key: 'since' | 'until', label: string) => (
    <label className="flex items-center gap-1.5">
      {label}
      <input
        type="date"
        className="field !w-auto !py-1"
        value={scope[key] ?? ''}
        onChange={(e) =>
          setScope({
            ...scope,
            [key]: e.target.value || undefined,
            ...(key === 'until' && scope.since === undefined ? { since: '' } : {}),
          })
        }
      />
    </label>
  )
  return (
    <div className="mt-1.5 mb-2 flex flex-wrap items-center gap-x-4 gap-y-1.5 text-sm">
      <label className="flex items-center gap-1.5">
        <Trans>
          on
          <select
            className="field !w-auto !py-1"
            value={which}
            onChange={(e) => setScope({ ...spans.find(([k]) => k === e.target.value)![2], thorough: scope.thorough })}
          >
            {spans
              .filter(([k]) => k !== 'one' || which === 'one')
              .map(([k, word]) => (
                <option key={k} value={k}>
                  {word}
                </option>
              ))}
          </select>
        </Trans>
      </label>
      {which === 'days' && (
        <>
          {day('since', 'from')}
          {day('until', 'to')}
        </>
      )}
      <Tick
        className=""
        label={t`look into texts and archives`}
        checked={!!scope.thorough}
        onChange={(on) => setScope({ ...scope, thorough: on || undefined })}
      />
    </div>
  )
}

/** The folders as they would be. */
function Tree({ tree }: { tree: Schemas['FolderSum'][] }) {
  if (tree.length === 0)
    return (
      <p className="py-4 text-ink-2">
        <Trans>Nothing would be filed.</Trans>
      </p>
    )
  const lines: { depth: number; name: string; files?: number; bytes?: number }[] = []
  let before: string[] = []
  for (const f of tree) {
    const parts = [f.cabinet, ...f.folder.split('/')]
    let same = 0
    while (same < parts.length && parts[same] === before[same]) same++
    for (let i = Math.min(same, parts.length - 1); i < parts.length; i++) {
      const last = i === parts.length - 1
      lines.push({ depth: i, name: parts[i], ...(last ? { files: f.files, bytes: f.bytes } : {}) })
    }
    before = parts
  }
  return (
    <ul className="py-2 text-[14.5px]">
      {lines.map((l, i) => (
        <li
          key={i}
          className="flex justify-between gap-3 border-b border-line py-1"
          style={{ paddingLeft: `${l.depth * 1.1}rem` }}
        >
          <span className={`[overflow-wrap:anywhere] ${l.depth === 0 ? 'font-semibold' : ''}`}>{l.name}</span>
          {l.files !== undefined && (
            <span className="shrink-0 text-ink-3">
              {plural(l.files, { one: '# file', other: '# files' })}, {size(l.bytes ?? 0)}
            </span>
          )}
        </li>
      ))}
    </ul>
  )
}

/** What is said beside a new letter of which nothing was filled in yet. */
const invitation = (r?: Schemas['Rehearsal']) =>
  r?.looked
    ? t`This is the mail that is there. Choose a sender in the letter. Then you see what the rule would file.`
    : t`Fill in the blanks of the letter. Then you see here what the rule would do with your mail.`

type Props = {
  rehearsal?: Schemas['Rehearsal']
  error: unknown
  busy: boolean
  /** Nothing of a new letter was filled in yet: this is the mail that is there. */
  fresh?: boolean
  scope: Scope
  setScope: (s: Scope) => void
  topics?: string[]
}
export function RehearsalPane({ rehearsal: r, error, busy, fresh, scope, setScope, topics = [] }: Props) {
  const [show, setShow] = useState<'messages' | 'folders'>('messages')
  const [only, setOnly] = useState(false)
  const wrong = error instanceof Problem && error.fields.length > 0
  const there = r?.messages.flatMap((m) => m.items).filter((i) => i.verdict === 'already there').length
  // Those that match stand first, else in their order.
  const messages = (r?.messages ?? [])
    .filter((m) => !only || m.answer !== 'no')
    .sort((a, b) => Number(b.matches) - Number(a.matches))
  const tab = (key: 'messages' | 'folders', word: string) => (
    <button
      className={`add ${show === key ? 'underline' : '!font-normal'}`}
      aria-pressed={show === key}
      onClick={() => setShow(key)}
    >
      {word}
    </button>
  )
  return (
    <section aria-label={t`Rehearsal`} className="min-w-0">
      <h2>
        <Trans>Rehearsal{r ? t` on ${plural(r.looked, { one: '# message', other: '# messages' })}` : ''}</Trans>
      </h2>
      <ScopeLine scope={scope} setScope={setScope} />
      <p className="mb-1 text-ink-2" role="status">
        {fresh && (r || wrong)
          ? invitation(r)
          : wrong
            ? t`Fill in the blank marked in red to see what this rule would do.`
            : busy && !r
              ? t`Looking…`
              : r
                ? t`${r.matching} match · ${plural(r.files, { one: '# file', other: '# files' })} would be filed, ${size(r.bytes)}${there ? t` · ${there} filed already` : ''}${r.clashes ? t` · ${plural(r.clashes, { one: '# name is', other: '# names are' })} taken` : ''}${r.unsettled ? t` · ${r.unsettled} not certain, because a file was not read` : ''} · nothing is written`
                : ''}
      </p>
      {!wrong &&
        r?.warnings.map((w) => (
          <p key={w.text} role="alert" className="my-1 rounded-lg bg-ochre-soft px-3 py-1.5 text-[14.5px] text-ochre">
            {w.text.charAt(0).toUpperCase() + w.text.slice(1).replace(/\.$/, '')}.
          </p>
        ))}
      {!!error && !wrong && <Wrong error={error} />}
      <p className="mb-1 flex flex-wrap gap-3">
        {tab('messages', t`Messages`)}
        {tab('folders', t`Folders as they would be`)}
        {show === 'messages' && (
          <Tick
            className="ml-auto text-sm"
            label={t`only what matches`}
            checked={only}
            onChange={(on) => setOnly(on)}
          />
        )}
      </p>
      <div
        className={`max-h-[75vh] overflow-auto pr-1 ${wrong ? 'opacity-60' : ''}`}
        tabIndex={0}
        role="region"
        aria-label={show === 'messages' ? t`Messages of the rehearsal` : t`Folders of the rehearsal`}
      >
        {show === 'folders' && r && <Tree tree={r.tree} />}
        {show === 'messages' && r && messages.length === 0 && (
          <p className="py-4 text-ink-2">
            {r.looked ? t`No message matches.` : t`There is no message in these folders yet.`}
          </p>
        )}
        {show === 'messages' &&
          messages.map((m, i) => (
            <article key={`${m.message.id} ${i}`} className="border-t border-line py-3">
              <MessageHead message={m.message} time={when(m.message.received_at)} />
              {!m.matches && (
                <p className="mt-0.5 text-[13.5px] text-ink-2">
                  <Chip word={m.answer === 'no' ? 'does not match' : m.answer} /> {m.reason}
                </p>
              )}
              {m.items.map((x) => (
                <ItemLine key={x.item} item={x} />
              ))}
              <Steps steps={m.steps} />
              {topics.length > 0 && <MarkLine topics={topics} message={m.message} />}
              {m.matches && m.items.length === 0 && (
                <p className="mt-1 text-[13.5px] text-ink-2">
                  <Trans>
                    <Chip word={'matches'} /> and has no attachment
                  </Trans>
                </p>
              )}
            </article>
          ))}
        {show === 'messages' && r && r.not_shown > 0 && (
          <p className="border-t border-line py-3 text-sm text-ink-3">
            <Trans>
              <Plural value={r.not_shown} one="# more message" other="# more messages" />
              {r.files_not_shown > 0 && t` with ${plural(r.files_not_shown, { one: '# file', other: '# files' })}`}{' '}
              counted and not shown.{' '}
              <button className="add" onClick={() => setScope({ ...scope, show: mostShown })}>
                Show all
              </button>
            </Trans>
          </p>
        )}
      </div>
    </section>
  )
}
