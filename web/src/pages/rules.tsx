import { plural, t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { Switch } from 'radix-ui'
import { type DragEvent, type KeyboardEvent, useRef, useState } from 'react'
import { Link, useNavigate } from 'react-router'

import { api, Problem, type Schemas, value } from '../api/client'
import { keys, queries } from '../api/queries'
import { OneOf } from '../letter/blanks'
import type { RuleDocument } from '../letter/document'
import { PatternLabels } from '../letter/patternlabels'
import { Bars, Button, Chip, Listing, Page, Sheet, Wrong } from '../ui/basics'
import { Term } from '../ui/term'
import { when } from '../ui/format'
import { Differences, SwitchOn } from './rulecare'
import { address } from '../api/where'

export function Rules() {
  const go = useNavigate()
  const client = useQueryClient()
  const [starting, setStarting] = useState<Schemas['Rule'] | null>(null)
  const [importing, setImporting] = useState(false)
  const [held, setHeld] = useState<number | null>(null)
  const [said, setSaid] = useState('')
  const [text, setText] = useState('')
  const [by, setBy] = useState<By>('order')
  const query = useQuery(queries.rules)
  const fields = useQuery(queries.language).data?.fields ?? []
  const grouped = groups(query.data ?? [], by, text)
  const off = useMutation({
    mutationFn: (id: string) => value(api.POST('/api/v1/rules/{id}/off', { params: { path: { id } } })),
    onSettled: () => client.invalidateQueries({ queryKey: keys.rules }),
  })
  const order = useMutation({
    mutationFn: ({ ids, was }: { ids: string[]; was: string[] }) =>
      value(api.PUT('/api/v1/rules/order', { body: { ids, was } })),
    onSuccess: (rules) => client.setQueryData(queries.rules.queryKey, rules),
    onError: () => client.invalidateQueries({ queryKey: keys.rules }),
  })
  const move = (from: number, to: number) => {
    const rules = query.data ?? []
    if (from === to || to < 0 || to >= rules.length) return
    const next = [...rules]
    next.splice(to, 0, ...next.splice(from, 1))
    client.setQueryData(queries.rules.queryKey, next)
    setSaid(t`${rules[from].name} is now number ${to + 1} of ${rules.length}.`)
    order.mutate({ ids: next.map((r) => r.id), was: rules.map((r) => r.id) })
  }
  const drop = (e: DragEvent, to: number) => {
    e.preventDefault()
    if (held !== null) move(held, to)
    setHeld(null)
  }
  const key = (e: KeyboardEvent, i: number) => {
    const to = e.key === 'ArrowUp' ? i - 1 : e.key === 'ArrowDown' ? i + 1 : i
    if (to === i) return
    e.preventDefault()
    move(i, to)
    window.setTimeout(() => document.getElementById(`grip-${query.data?.[i].id}`)?.focus())
  }
  const Name = by === 'order' ? 'h2' : 'h3' // below the headings of the groups
  return (
    <Page
      title={t`Rules`}
      sub={
        <Trans>
          Each message goes through the <Term word="rule">rules</Term> from top to bottom.
        </Trans>
      }
      actions={
        <>
          <Button onClick={() => setImporting(true)}>
            <Trans>Import…</Trans>
          </Button>
          <Button
            onClick={() => window.location.assign(address('/api/v1/rules/export'))}
            disabled={!query.data?.length}
          >
            <Trans>Save all as a file</Trans>
          </Button>
          <Button look="main" onClick={() => void go('/rules/new')}>
            <Trans>New rule</Trans>
          </Button>
        </>
      }
    >
      <Wrong error={off.error ?? order.error} />
      <p className="sr-only" role="status">
        {said}
      </p>
      <Listing
        query={query}
        empty={(r) =>
          r.length === 0 &&
          t`No rules yet. A rule says which messages to look for, which attachments to take, and where to file them.`
        }
      >
        {(all) => (
          <>
            {(all.length > 5 || text) && (
              <div className="mb-4 flex flex-wrap items-end gap-3">
                <input
                  type="search"
                  aria-label={t`Find a rule`}
                  placeholder={t`Find a rule`}
                  className="field max-w-72"
                  value={text}
                  onChange={(e) => setText(e.target.value)}
                />
                <select
                  aria-label={t`Group the rules`}
                  className="field w-auto"
                  value={by}
                  onChange={(e) => setBy(e.target.value as By)}
                >
                  {groupings.map(([v, word]) => (
                    <option key={v} value={v}>
                      {word}
                    </option>
                  ))}
                </select>
              </div>
            )}
            {grouped.map(([heading, rules]) => (
              <section key={heading}>
                {heading && <h2 className="mt-6 mb-1 text-ink-2">{heading}</h2>}
                <ol>
                  {rules.map(({ rule: r, at: i }) => (
                    <li
                      key={r.id}
                      onDragOver={(e) => held !== null && e.preventDefault()}
                      onDrop={(e) => drop(e, i)}
                      className={`grid gap-x-5 gap-y-2 border-t py-4 first:border-t-0 md:grid-cols-[1.6rem_minmax(0,1fr)_11rem_auto] ${held === i ? 'opacity-50' : ''} border-line`}
                    >
                      <button
                        id={`grip-${r.id}`}
                        disabled={by !== 'order' || !!text}
                        draggable
                        onDragStart={() => setHeld(i)}
                        onDragEnd={() => setHeld(null)}
                        onKeyDown={(e) => key(e, i)}
                        title={t`Drag to another place, or use the arrow keys`}
                        aria-label={t`Move ${r.name}, number ${i + 1} of ${all.length}: arrow up or arrow down`}
                        className="hidden h-8 w-6 cursor-grab place-items-center rounded text-ink-3 hover:bg-sheet-2 disabled:opacity-30 md:grid"
                      >
                        <svg aria-hidden width="10" height="16" viewBox="0 0 10 16">
                          <g fill="currentColor">
                            {[2, 8, 14].map((y) =>
                              [2, 8].map((x) => <circle key={`${x} ${y}`} cx={x} cy={y} r="1.4" />),
                            )}
                          </g>
                        </svg>
                      </button>
                      <div className="min-w-0">
                        <Name className="font-serif text-[17px] font-semibold">
                          <Link to={`/rules/${r.id}`} className="hover:underline">
                            {r.name}
                          </Link>
                        </Name>
                        <p
                          className={`text-[14.5px] [overflow-wrap:anywhere] ${r.problems ? 'text-seal' : 'text-ink-2'}`}
                        >
                          {r.problems ? r.sentence : r.summary}
                        </p>
                        {!r.problems && (
                          <p className="mt-1 flex flex-wrap items-center gap-x-2 gap-y-1 text-sm text-ink-3">
                            <span>
                              <Trans>from {mailboxesOf(r.document)} into</Trans>
                            </span>
                            {destinations(r.document).map((d) => (
                              <PatternLabels key={d} pattern={d} fields={fields} />
                            ))}
                            {r.example && (
                              <span className="[overflow-wrap:anywhere]">
                                <Trans>for example {r.example}</Trans>
                              </span>
                            )}
                          </p>
                        )}
                      </div>
                      <div>
                        <Bars
                          days={r.days ?? []}
                          label={t`Files of ${r.name} by the day on which their message came, the last thirty days`}
                          height={60}
                        />
                        <p className="text-[13px] text-ink-3">
                          {r.filed > 0 ? (
                            <Link className="hover:underline" to={`/register?rule=${r.id}`}>
                              {plural(r.filed, { one: '# file', other: '# files' })}
                            </Link>
                          ) : (
                            plural(r.filed, { one: '# file', other: '# files' })
                          )}
                          {r.last_filed_at && t`, last ${when(r.last_filed_at)}`}
                        </p>
                      </div>
                      <div className="flex items-start gap-2">
                        <label className="flex items-center gap-2 text-sm">
                          <Switch.Root
                            checked={r.running}
                            onCheckedChange={(on) => (on ? setStarting(r) : off.mutate(r.id))}
                            aria-label={t`${r.name} is ${r.running ? t`on` : t`off`}`}
                            className="h-[22px] w-[38px] rounded-full border border-line-2 bg-sheet-2 data-[state=checked]:border-moss data-[state=checked]:bg-moss"
                          >
                            <Switch.Thumb className="block h-4 w-4 translate-x-0.5 rounded-full bg-ink-3 transition-transform data-[state=checked]:translate-x-[18px] data-[state=checked]:bg-sheet" />
                          </Switch.Root>
                          <span className="w-6">{r.running ? t`on` : t`off`}</span>
                        </label>
                      </div>
                    </li>
                  ))}
                </ol>
              </section>
            ))}
            {grouped.length === 0 && (
              <p className="py-6 text-ink-2">
                <Trans>No matching rules.</Trans>
              </p>
            )}
          </>
        )}
      </Listing>
      {starting && <SwitchOn rule={starting} onClose={() => setStarting(null)} />}
      {importing && <Import onClose={() => setImporting(false)} />}
    </Page>
  )
}

type By = 'order' | 'mailbox' | 'cabinet' | 'state'
const groupings: [By, string][] = [
  ['order', t`In their order`],
  ['mailbox', t`By mailbox`],
  ['cabinet', t`By cabinet`],
  ['state', t`On and off`],
]

/** The folders into which a rule files, each once, as patterns. */
function destinations(document: unknown): string[] {
  const d = document as RuleDocument
  const rest = d.rest && d.rest !== 'leave' ? d.rest.folder : undefined
  return [...new Set([...(d.attachments ?? []).map((e) => e.folder), rest].filter((f): f is string => !!f))]
}

/** The mailboxes into which a rule looks. */
function mailboxesOf(document: unknown): string {
  const all = [(document as RuleDocument).look.mailboxes].flat()
  return all[0] === 'all' ? t`all mailboxes` : all.join(', ')
}

/** The rules that fit a text, each with its place in the whole order, in groups with their headings. */
function groups(rules: Schemas['Rule'][], by: By, text: string): [string, { rule: Schemas['Rule']; at: number }[]][] {
  const words = text.toLowerCase().split(/\s+/).filter(Boolean)
  const found = new Map<string, { rule: Schemas['Rule']; at: number }[]>()
  rules.forEach((rule, at) => {
    const all = `${rule.name} ${rule.sentence}`.toLowerCase()
    if (!words.every((w) => all.includes(w))) return
    const heading = {
      order: '',
      mailbox: mailboxesOf(rule.document),
      cabinet: rule.document.cabinet,
      state: rule.running ? t`On` : t`Off`,
    }[by]
    found.set(heading, [...(found.get(heading) ?? []), { rule, at }])
  })
  return [...found]
}

/** A file of rules is compared first; what it would change is shown before anything is kept. */
function Import({ onClose }: { onClose: () => void }) {
  const client = useQueryClient()
  const input = useRef<HTMLInputElement>(null)
  const [text, setText] = useState('')
  const [name, setName] = useState('')
  const [renames, setRenames] = useState<Record<string, string>>({})
  const compare = useQuery({
    ...queries.compare(text, renames),
    enabled: text !== '',
    placeholderData: (before) => before,
  })
  const keep = useMutation({
    mutationFn: () => value(api.POST('/api/v1/rules/import', { body: { document: text, renames } })),
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: keys.rules })
      onClose()
    },
  })
  const take = (file?: File) => {
    if (file) {
      setName(file.name)
      setRenames({})
      void file.text().then(setText)
    }
  }
  const changes = compare.data ?? []
  const open = changes.filter((c) => c.renamed && renames[c.name] === undefined)
  const wrong = changes.some((c) => c.problems.length > 0)
  return (
    <Sheet title={t`Import rules`} open onClose={onClose}>
      <p className="mb-3 text-ink-2">
        <Trans>A file of rules in YAML or JSON. New rules are off until you switch them on.</Trans>
      </p>
      <div
        onDragOver={(e) => e.preventDefault()}
        onDrop={(e) => {
          e.preventDefault()
          take(e.dataTransfer.files[0])
        }}
        className="rounded-xl border border-dashed border-line-2 px-4 py-5 text-center"
      >
        <input
          ref={input}
          type="file"
          accept=".yaml,.yml,.json"
          className="sr-only"
          aria-label={t`File of rules`}
          onChange={(e) => take(e.target.files?.[0])}
        />
        {name || t`Drop the file here, or`}{' '}
        <Button onClick={() => input.current?.click()}>{name ? t`Choose another file` : t`Choose a file`}</Button>
      </div>
      {compare.error instanceof Problem && compare.error.fields.length > 0 ? (
        <ul role="alert" className="my-3 rounded-lg bg-seal-soft px-4 py-3 text-seal">
          {compare.error.fields.map((f) => (
            <li key={f.place + f.text}>
              {f.line ? t`Line ${f.line}: ` : ''}
              {f.text}
              {f.meant ? t` (did you mean “${f.meant}”?)` : ''}
            </li>
          ))}
        </ul>
      ) : (
        <Wrong error={compare.error} />
      )}
      {changes.map((c) => (
        <div key={c.name} className="border-t border-line py-3 first-of-type:mt-3">
          <p className="flex justify-between gap-3 font-semibold">
            {c.name}
            <Chip word={{ add: 'new', change: 'changed', same: 'as it is' }[c.kind]} />
          </p>
          {c.kind === 'add' && <p className="text-[14.5px] text-ink-2">{c.sentence}</p>}
          <Differences lines={c.lines} />
          {c.problems.map((p) => (
            <p key={p.place + p.text} role="alert" className="text-sm text-seal">
              {p.text}
            </p>
          ))}
          {c.renamed && (
            <div className="mt-1 text-[14.5px]">
              <p>
                <Trans>Is it the rule “{c.renamed.name}” under a new name?</Trans>
              </p>
              <OneOf
                name={`renamed ${c.name}`}
                value={renames[c.name] ?? '?'}
                choices={[
                  [c.renamed.id, t`yes, that one renamed`],
                  ['', t`no, a new rule`],
                ]}
                onChange={(v) => setRenames({ ...renames, [c.name]: v })}
              />
            </div>
          )}
          {renames[c.name] && (
            <p className="mt-1 text-[14.5px]">
              <Trans>
                It is “{c.was}” under a new name.{' '}
                <button className="add" onClick={() => setRenames({ ...renames, [c.name]: '' })}>
                  No, a new rule
                </button>
              </Trans>
            </p>
          )}
        </div>
      ))}
      <Wrong error={keep.error} />
      <div className="mt-4 flex justify-end gap-2">
        <Button onClick={onClose}>
          <Trans>Cancel</Trans>
        </Button>
        <Button
          look="main"
          disabled={
            !changes.length || wrong || open.length > 0 || keep.isPending || changes.every((c) => c.kind === 'same')
          }
          onClick={() => keep.mutate()}
        >
          <Trans>Import these rules</Trans>
        </Button>
      </div>
    </Sheet>
  )
}
