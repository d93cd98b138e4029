import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useQuery } from '@tanstack/react-query'
import { type KeyboardEvent, type ReactNode, useId, useRef, useState } from 'react'
import { Link } from 'react-router'

import type { Schemas } from '../api/client'
import { queries } from '../api/queries'
import { Blank, Button, Tick } from '../ui/basics'
import {
  emptyValue,
  headerOps,
  type InnerText,
  type Value,
  type ItemTest,
  type Leaf,
  list,
  type Node,
  type Shape,
  shapeOf,
  shapes,
  type Texts,
  valueOf,
  withValue,
} from './document'
import { pieces, shownPieces, without } from './pattern'
import { inWords } from './patternwords'
import { ValueTestEditor, valueWords } from './values'

/** What the blanks offer: what is set up, and what occurs in the mailboxes. */
export type Known = {
  mailboxes: string[]
  cabinets: string[]
  folders: string[]
  people: string[]
  choices?: Schemas['Choices']
  language?: Schemas['Language']
  /** The rule's id, once it is saved. */
  rule?: string
  /** What the rule reads of each file. */
  values?: Value[]
  /** What the rehearsal reads, a list for each file. */
  read?: Schemas['FiledValue'][][]
}
type Offered = { value: string; count?: number }

/** Adds and removes texts; what occurs in the mailboxes is offered. */
export function TextList({
  label,
  values,
  onChange,
  offered = [],
  about,
}: {
  label: string
  values: string[]
  onChange: (v: string[]) => void
  offered?: Offered[]
  about?: string
}) {
  const [typed, setTyped] = useState('')
  const id = useId()
  const add = (v: string) => {
    const trimmed = v.trim()
    if (trimmed && !values.includes(trimmed)) onChange([...values, trimmed])
    setTyped('')
  }
  const key = (e: KeyboardEvent) => {
    if (e.key === 'Enter') {
      e.preventDefault()
      add(typed)
    }
  }
  const offers = offered
    .filter((o) => !values.includes(o.value) && o.value.toLowerCase().includes(typed.toLowerCase()))
    .slice(0, 8)
  return (
    <div>
      <ul className="mb-2 flex flex-wrap gap-1.5">
        {values.map((v) => (
          <li key={v} className="flex items-center gap-1 rounded border border-line-2 bg-sheet-2 pl-2">
            {v}
            <button
              className="px-1.5 text-ink-3 hover:text-seal"
              aria-label={t`Take ${v} out`}
              onClick={() => onChange(values.filter((x) => x !== v))}
            >
              ×
            </button>
          </li>
        ))}
      </ul>
      <label htmlFor={id} className="mb-1 block text-sm font-semibold">
        {label}
      </label>
      <div className="flex gap-2">
        <input
          id={id}
          autoFocus
          className="field"
          value={typed}
          onChange={(e) => setTyped(e.target.value)}
          onKeyDown={key}
          onBlur={() => add(typed)}
        />
        <Button onClick={() => add(typed)} disabled={!typed.trim()}>
          <Trans>Add</Trans>
        </Button>
      </div>
      {offers.length > 0 && (
        <div className="mt-3">
          <p className="text-sm text-ink-3">{about ?? t`In this mailbox:`}</p>
          {offers.map((o) => (
            <button
              key={o.value}
              className="add mr-2 [overflow-wrap:anywhere]"
              onMouseDown={(e) => e.preventDefault()}
              onClick={() => add(o.value)}
            >
              {o.value} {o.count !== undefined && <span className="font-normal text-ink-3">{o.count}</span>}
            </button>
          ))}
        </div>
      )}
    </div>
  )
}

/** One of several, each with a line that says what it does. */
export function OneOf({
  name,
  value,
  choices,
  onChange,
}: {
  name: string
  value: string
  choices: [string, string, string?][]
  onChange: (v: string) => void
}) {
  return choices.map(([v, label, hint]) => (
    <label key={v} className="flex items-baseline gap-2 py-1">
      <input
        type="radio"
        name={name}
        className="accent-[var(--pen)]"
        checked={v === value}
        onChange={() => onChange(v)}
      />
      <span>
        {label}
        {hint && <span className="block text-sm text-ink-3">{hint}</span>}
      </span>
    </label>
  ))
}

function Kinds({
  kinds,
  values,
  occur,
  onChange,
}: {
  kinds: Schemas['Kind'][]
  values: string[]
  occur: Offered[]
  onChange: (v: string[]) => void
}) {
  const count = (name: string) => occur.find((o) => o.value === name)?.count ?? 0
  const sorted = [...kinds].sort((a, b) => count(b.name) - count(a.name))
  return (
    <div className="grid grid-cols-2">
      {sorted.map((k) => (
        <Tick
          key={k.name}
          label={count(k.name) ? `${k.plural} (${count(k.name)})` : k.plural}
          checked={values.includes(k.name)}
          onChange={(on) => onChange(on ? [...values, k.name] : values.filter((v) => v !== k.name))}
        />
      ))}
    </div>
  )
}

/** Words with "or" before the last, or another word. */
export const orList = (words: string[], last: 'or' | 'and' | 'nor' = 'or') =>
  words.length < 2 ? words.join('') : `${words.slice(0, -1).join(', ')} ${joins[last]} ${words.at(-1)}`
export const joins = { or: t`or`, and: t`and`, nor: t`nor` }

const collapse = (v: string[]): Texts => (v.length === 1 ? v[0] : v)

function offersOf(s: Shape, known: Known): Offered[] {
  const c = known.choices
  if (!c || !s.offer) return []
  if (s.offer === 'folders') return known.folders.map((value) => ({ value }))
  if (s.offer === 'topics') return c.topics.map((value) => ({ value }))
  if (s.offer === 'correspondents') return [...c.correspondents, ...c.groups].map((value) => ({ value }))
  return c[s.offer]
}

const about: Record<string, string> = {
  domains: t`Senders in this mailbox:`,
  addresses: t`Senders in this mailbox:`,
  recipients: t`Recipients in this mailbox:`,
  words: t`Words in subjects:`,
  topics: t`In Settings:`,
  labels: t`Labels on messages:`,
  folders: t`Folders:`,
  correspondents: t`Correspondents:`,
}

type LeafProps = {
  leaf: Leaf
  known: Known
  wrong: string[]
  exception?: boolean
  onChange: (n: Node | null) => void
}

/** What an empty blank says, by what it looks at. */
const invites: Record<string, string> = {
  sender: t`choose a sender`,
  'original sender': t`choose a sender`,
  recipient: t`choose a recipient`,
  'delivered to': t`enter an address`,
  subject: t`enter words`,
  'subject.full': t`enter words`,
  words: t`enter words`,
  topic: t`choose a topic`,
  label: t`choose a label`,
  folder: t`choose a folder`,
}

/** One condition: its words, and a blank where it can be changed. */
export function LeafLine({ leaf, known, wrong, exception, onChange }: LeafProps) {
  const s = shapeOf(leaf)
  if (!s) {
    return (
      <>
        <span className="rounded bg-sheet px-1 text-ink-2">{JSON.stringify(leaf)}</span>{' '}
        <button className="add" onClick={() => onChange(null)}>
          <Trans>take out</Trans>
        </button>
      </>
    )
  }
  const v = valueOf(leaf, s)
  const set = (x: unknown) => onChange({ leaf: withValue(s, x, leaf) })
  let words = exception ? (s.exception ?? s.words) : s.words
  let shown: string
  if (s.values === 'texts') shown = orList(list(v as Texts), s.sub === 'all' || s.sub === 'contains all' ? 'and' : 'or')
  else if (s.values === 'item') shown = itemWords(v as ItemTest, known.language?.kinds ?? [])
  else if (s.values === 'count') shown = `${Number(v)} attachments`
  else if (s.sub === 'verified') shown = v ? t`verified` : t`not verified`
  else if (s.values === 'yes') {
    shown = v ? (s.key === 'read' ? t`read` : t`flagged`) : s.key === 'read' ? t`unread` : t`not flagged`
    words = exception ? t`it is` : t`that are`
  } else if (s.values === 'no') {
    shown = v ? t`something` : t`nothing`
  } else if (s.values === 'header') shown = headerWords(v as Header)
  else shown = String(v)
  const domain = leaf[s.key] as { exactly?: boolean }
  return (
    <>
      {words}{' '}
      <Blank label={s.words} text={shown} invite={invites[s.key]} wrong={wrong}>
        <LeafEditor
          s={s}
          v={v}
          known={known}
          set={set}
          change={(to) => onChange({ leaf: withValue(to, to.values === s.values ? v : emptyValue(to)) })}
        />
        {s.sub === 'domain' && (
          <Tick
            label={t`without subdomains`}
            checked={!!domain.exactly}
            onChange={(on) => onChange({ leaf: { [s.key]: { domain: v, ...(on ? { exactly: true } : {}) } } })}
          />
        )}
        {s.key === 'topic' && <Sure leaf={leaf} onChange={onChange} />}
        {s.key === 'words' && <WordsIn leaf={leaf} sub={s.sub!} onChange={onChange} />}
        <p className="mt-4 border-t border-line pt-3">
          <button className="add !text-seal" onClick={() => onChange(null)}>
            <Trans>Remove this condition</Trans>
          </button>
        </p>
      </Blank>
    </>
  )
}

function WordsIn({ leaf, sub, onChange }: { leaf: Leaf; sub: string; onChange: (n: Node) => void }) {
  const w = leaf.words as Record<string, Texts>
  const places: [string, string][] = [
    ['subject', t`the subject`],
    ['body', t`the text`],
    ['names', t`the attachments’ names`],
  ]
  const on = w.in ? list(w.in) : places.map(([p]) => p)
  const set = (next: string[]) =>
    onChange({
      leaf: { words: { ...(next.length && next.length < places.length ? { in: next } : {}), [sub]: w[sub] } },
    })
  return (
    <div className="mt-3">
      <p className="text-sm font-semibold">
        <Trans>Looked for in</Trans>
      </p>
      {places.map(([p, label]) => (
        <Tick
          key={p}
          label={label}
          checked={on.includes(p)}
          onChange={(yes) => set(yes ? [...on, p] : on.filter((x) => x !== p))}
        />
      ))}
    </div>
  )
}

/** How sure a topic has to be. */
function Sure({ leaf, onChange }: { leaf: Leaf; onChange: (n: Node) => void }) {
  const topic = leaf.topic as { is: Texts; confidence?: string }
  const topics = useQuery(queries.topics)
  return (
    <label className="mt-3 block text-sm font-semibold">
      <Trans>
        How sure it has to be
        <select
          className="field mt-1 font-normal"
          value={topic.confidence ?? '85%'}
          onChange={(e) =>
            onChange({
              leaf: { topic: { is: topic.is, ...(e.target.value === '85%' ? {} : { confidence: e.target.value }) } },
            })
          }
        >
          {[...new Set(['75%', '85%', '90%', '95%', topic.confidence ?? '85%'])].sort().map((c) => (
            <option key={c} value={c}>
              {c.replace('%', ' %')}
            </option>
          ))}
        </select>
        <span className="font-normal text-ink-3">
          Less certain messages wait in the tray. Your answer there teaches the topic.
        </span>
        {topics.data
          ?.filter((x) => list(topic.is).some((n) => n.toLowerCase() === x.name.toLowerCase()))
          .map((x) => (
            <span key={x.id} className="mt-2 block font-normal text-ink-2">
              {x.sentence}{' '}
              <Link className="text-pen underline" to={`/topics/${x.id}`}>
                <Trans>Teach {x.name}…</Trans>
              </Link>
            </span>
          ))}
      </Trans>
    </label>
  )
}

type Header = { name: string; there?: boolean } & Partial<Record<string, Texts | boolean>>
const opWords: Record<string, string> = {
  contains: t`contains`,
  'contains all': t`contains all of`,
  is: t`is`,
  begins: t`begins with`,
  ends: t`ends with`,
  like: t`is like`,
  matches: t`matches`,
  there: t`is there`,
}
const opOf = (h: Header) => headerOps.find((o) => h[o] !== undefined) ?? 'contains'
const headerWords = (h: Header) => {
  const op = opOf(h)
  if (op === 'there') return `${h.name} ${h.there ? t`is there` : t`is not there`}`
  return h.name ? `${h.name} ${opWords[op]} ${orList(list(h[op] as Texts), op === 'contains all' ? 'and' : 'or')}` : ''
}

function HeaderEditor({ h, onChange }: { h: Header; onChange: (h: Header) => void }) {
  const op = opOf(h)
  return (
    <>
      <label className="mb-3 block text-sm font-semibold">
        <Trans>
          Name of the field
          <input
            className="field mt-1 font-normal"
            placeholder="X-Reference"
            value={h.name}
            onChange={(e) => onChange({ ...h, name: e.target.value })}
          />
        </Trans>
      </label>
      <label className="mb-3 block text-sm font-semibold">
        <Trans>
          Its text
          <select
            className="field mt-1 font-normal"
            value={op}
            onChange={(e) =>
              onChange({
                name: h.name,
                [e.target.value]: e.target.value === 'there' ? true : op === 'there' ? [] : h[op],
              })
            }
          >
            {headerOps.map((o) => (
              <option key={o} value={o}>
                {opWords[o]}
              </option>
            ))}
          </select>
        </Trans>
      </label>
      {op === 'there' ? (
        <Tick
          label={t`it is there`}
          checked={h.there === true}
          onChange={(on) => onChange({ name: h.name, there: on })}
        />
      ) : (
        <TextList
          label={t`Another text`}
          values={list(h[op] as Texts)}
          onChange={(x) => onChange({ name: h.name, [op]: collapse(x) })}
        />
      )}
    </>
  )
}

function LeafEditor({
  s,
  v,
  known,
  set,
  change,
}: {
  s: Shape
  v: unknown
  known: Known
  set: (v: unknown) => void
  change: (to: Shape) => void
}) {
  const groups = [...new Set(shapes.map((x) => x.group))]
  return (
    <>
      <label className="mb-3 block text-sm font-semibold">
        <Trans>
          What is looked at
          <select
            className="field mt-1 font-normal"
            value={shapes.indexOf(s)}
            onChange={(e) => change(shapes[Number(e.target.value)])}
          >
            {groups.map((g) => (
              <optgroup key={g} label={g}>
                {shapes.map(
                  (x, i) =>
                    x.group === g && (
                      <option key={i} value={i}>
                        {x.sub === 'domain' ? t`${x.words} the domain` : x.words}
                      </option>
                    ),
                )}
              </optgroup>
            ))}
          </select>
        </Trans>
      </label>
      {s.values === 'texts' && (
        <TextList
          label={s.another ?? t`Another text`}
          values={list(v as Texts)}
          onChange={(x) => set(collapse(x))}
          offered={offersOf(s, known)}
          about={s.offer && about[s.offer]}
        />
      )}
      {s.values === 'item' && <ItemEditor test={v as ItemTest} known={known} onChange={set} />}
      {s.values === 'header' && <HeaderEditor h={v as Header} onChange={set} />}
      {s.values === 'count' && (
        <label className="block text-sm font-semibold">
          <Trans>
            How many
            <input
              className="field mt-1 font-normal"
              type="number"
              min={0}
              value={Number(v)}
              onChange={(e) => set(Number(e.target.value))}
            />
          </Trans>
        </label>
      )}
      {(s.values === 'size' || s.values === 'age' || s.values === 'day') && (
        <label className="block text-sm font-semibold">
          {s.values === 'size'
            ? t`Size, such as 20 KB`
            : s.values === 'age'
              ? t`Such as 14 days, 2 weeks, 3 months, 1 year`
              : t`Day`}
          <input
            className="field mt-1 font-normal"
            type={s.values === 'day' ? 'date' : 'text'}
            value={String(v)}
            onChange={(e) => set(e.target.value)}
          />
        </label>
      )}
      {s.values === 'yes' && (
        <Tick
          label={
            s.sub === 'verified'
              ? t`verified by a signature or a trusted mail server`
              : s.key === 'read'
                ? t`read`
                : t`flagged`
          }
          checked={v === true}
          onChange={set}
        />
      )}
      {s.values === 'no' && (
        <OneOf
          name="taken"
          value={v ? 'yes' : 'no'}
          choices={[
            ['no', t`nothing`, t`Only what no earlier rule takes`],
            ['yes', t`something`],
          ]}
          onChange={(x) => set(x === 'yes')}
        />
      )}
    </>
  )
}

const usual: [string, string][] = [
  [t`year`, '<received year>'],
  [t`month`, '<received month> <received month name>'],
  [t`date`, '<received date>'],
  [t`sender`, '<sender.name>'],
  [t`sender’s domain`, '<sender.domain>'],
  [t`correspondent`, '<correspondent or sender.domain>'],
  [t`subject`, '<subject>'],
  [t`file name`, '<file.stem>'],
  [t`kind`, '<file.kind>'],
  [t`register number`, '<register.year>-<register pad 4>'],
]
const ready: [string, string][] = [
  [t`by year and month`, t`Mail/<received year>/<received month> <received month name>`],
  [t`by correspondent, then year`, t`Mail/<correspondent or sender.domain>/<received year>`],
  [t`by kind`, t`Mail/<file.kind>/<received year>`],
]
const readyNames: [string, string][] = [
  [t`the original name`, '<file.stem>'],
  [t`date, then its name`, '<received date> <file.stem>'],
  [t`date, sender, its name`, '<received date> <sender.domain> <file.stem>'],
  [t`with a running number`, '<register.year>-<register pad 4> <file.stem>'],
]

type PatternProps = {
  label: string
  value: string
  onChange: (v: string) => void
  wrong: string[]
  known: Known
  example?: string
  names?: boolean
}
export function PatternBlank({ label, value, onChange, wrong, known, example, names }: PatternProps) {
  const id = useId()
  const area = useRef<HTMLTextAreaElement>(null)
  const language = known.language
  const fields = language?.fields ?? []
  const parts = pieces(value)
  const visible = shownPieces(value)
  const shown = visible.map((p, i) =>
    p.field !== undefined ? (
      <em key={i}>{inWords(p.field, fields)}</em>
    ) : (
      <span key={i}>{p.text.replaceAll('/', ' / ')}</span>
    ),
  )
  const said = visible
    .map((p) => (p.field !== undefined ? inWords(p.field, fields) : p.text.replaceAll('/', ' / ')))
    .join('')
  const put = (text: string) => {
    const at =
      area.current && document.activeElement === area.current
        ? area.current.selectionStart
        : (area.current?.selectionStart ?? value.length)
    const before = value.slice(0, at)
    const gap = before && !/[\s/>-]$/.test(before) && text.startsWith('<') ? ' ' : ''
    onChange(before + gap + text + value.slice(at))
    window.setTimeout(() => {
      area.current?.focus()
      area.current?.setSelectionRange(at + gap.length + text.length, at + gap.length + text.length)
    })
  }
  const takeOut = (index: number) => onChange(without(value, index))
  const chip = 'rounded border border-line-2 bg-sheet-2 px-1.5 text-sm hover:border-pen'
  return (
    <Blank label={`${label}: ${said}`} text={value && <>{shown}</>} wrong={wrong}>
      <p className="mb-1 text-sm font-semibold">{names ? t`Usual names` : t`Usual folders`}</p>
      <div className="mb-3 flex flex-wrap gap-1.5">
        {(names ? readyNames : ready).map(([word, p]) => (
          <button key={p} className={chip} aria-pressed={p === value} onClick={() => onChange(p)}>
            {word}
          </button>
        ))}
      </div>
      <p className="mb-1 text-sm font-semibold">
        <Trans>Add</Trans>
      </p>
      <div className="mb-3 flex flex-wrap gap-1.5">
        {!names && (
          <button className={chip} onClick={() => put('/')}>
            <Trans>a folder below</Trans>
          </button>
        )}
        {usual.map(([word, f]) => (
          <button key={f} className={chip} onClick={() => put(f)}>
            {word}
          </button>
        ))}
        {known.values?.map((v) => (
          <button key={v.name} className={chip} onClick={() => put(`<value.${v.name}>`)}>
            {v.name}
          </button>
        ))}
        {language?.tables.map((table) => (
          <button key={table} className={chip} onClick={() => put(`<lookup ${table} of (file.stem)>`)}>
            <Trans>look up in {table}</Trans>
          </button>
        ))}
      </div>
      {parts.some((p) => p.field !== undefined) && (
        <div className="mb-3 flex flex-wrap gap-1.5" aria-label={t`Fields in use`}>
          {parts.map(
            (p, i) =>
              p.field !== undefined && (
                <span key={i} className="flex items-center rounded border border-line-2 pl-1.5 text-sm">
                  {inWords(p.field, fields)}
                  <button
                    className="px-1.5 text-ink-3 hover:text-seal"
                    aria-label={t`Remove ${inWords(p.field, fields)}`}
                    onClick={() => takeOut(i)}
                  >
                    ×
                  </button>
                </span>
              ),
          )}
        </div>
      )}
      <label htmlFor={id} className="mb-1 block text-sm font-semibold">
        <Trans>{label}, as text</Trans>
      </label>
      <textarea
        ref={area}
        id={id}
        rows={2}
        spellCheck={false}
        className="field"
        value={value}
        onChange={(e) => onChange(e.target.value.replaceAll('\n', ''))}
        aria-describedby={id + 'x'}
      />
      <p
        id={id + 'x'}
        className={`mt-1 text-sm [overflow-wrap:anywhere] ${wrong.length ? 'text-seal' : 'text-ink-2'}`}
        role="status"
      >
        {wrong.length ? (
          wrong.join(' ')
        ) : example ? (
          <Trans>
            For example: <b className="font-semibold">{example}</b>
          </Trans>
        ) : (
          t`Text stays as it is. Fields are written between < and >.`
        )}
      </p>
      {language && (
        <details className="mt-3 text-sm">
          <summary className="font-semibold text-pen">
            <Trans>All fields and words</Trans>
          </summary>
          <dl className="mt-2 grid grid-cols-[auto_1fr] gap-x-3 gap-y-0.5">
            {language.fields.map((f) => (
              <div key={f.name} className="contents">
                <dt>
                  <button className="add !p-0" title={f.example} onClick={() => put(f.example)}>
                    {f.type === 'date' ? t`date ${f.words ?? ''}` : f.words}
                  </button>
                </dt>
                <dd className="text-ink-2">{f.doc}</dd>
              </div>
            ))}
            {language.words.map((w) => (
              <div key={w.name} className="contents">
                <dt className="text-ink-2">{w.example}</dt>
                <dd className="text-ink-2">{w.doc}</dd>
              </div>
            ))}
          </dl>
        </details>
      )}
    </Blank>
  )
}

/** What an attachment must be, in words. */
export const itemWords = (test: ItemTest, kinds: Schemas['Kind'][]): string => {
  let noun = test.kind
    ? orList(
        list(test.kind).map((k) => kinds.find((x) => x.name === k)?.plural ?? k),
        'and',
      )
    : t`attachments`
  if (test.inline) noun = test.kind ? `inline ${noun}` : 'inline pictures'
  if (test.inline === false) noun += ' that are not inline'
  if (test.name) noun = (test.kind || test.inline ? noun : t`files`) + t` named ${orList(list(test.name))}`
  if (test['name matches']) noun += ` whose name matches ${orList(list(test['name matches']))}`
  if (test.extension) noun += ` ending in ${orList(list(test.extension))}`
  if (test.type) noun += ` of the type ${orList(list(test.type))}`
  if (test.larger) noun += ` over ${test.larger}`
  if (test.smaller) noun += ` under ${test.smaller}`
  const invoice = test['electronic invoice']
  if (invoice)
    noun += ` that are electronic invoices${{ any: '', 'adds up': t` which add up`, 'does not add up': t` which do not add up` }[invoice] ?? ''}`
  const any = [...list(test.text?.contains), ...list(test.text?.['contains any'])]
  if (any.length) noun += ` in which ${orList(any)} stands`
  if (test.text?.['contains all']) noun += ` in which ${orList(list(test.text['contains all']), 'and')} stand`
  if (test.text?.matches) noun += ` in which something matches ${orList(list(test.text.matches))}`
  const values = valueWords(test)
  return values ? `${noun} ${values}` : noun
}

const inner = (within: InnerText): InnerText | undefined => {
  const kept = Object.fromEntries(Object.entries(within).filter(([, v]) => v !== undefined))
  return Object.keys(kept).length ? kept : undefined
}

export function ItemEditor({
  test: test,
  known,
  onChange,
}: {
  test: ItemTest
  known: Known
  onChange: (next: ItemTest) => void
}) {
  const set = (changes: Partial<ItemTest>) => {
    const next = { ...test, ...changes }
    for (const k of Object.keys(next) as (keyof ItemTest)[])
      if (next[k] === undefined || next[k] === '' || (Array.isArray(next[k]) && next[k].length === 0)) delete next[k]
    onChange(next)
  }
  const line = (key: 'name' | 'extension' | 'type' | 'name matches', label: string, placeholder: string): ReactNode => (
    <label className="mt-3 block text-sm font-semibold">
      {label}
      <input
        className="field mt-1 font-normal"
        placeholder={placeholder}
        defaultValue={list(test[key]).join(', ')}
        onChange={(e) =>
          set({
            [key]: e.target.value.trim()
              ? e.target.value
                  .split(',')
                  .map((x) => x.trim())
                  .filter(Boolean)
              : undefined,
          })
        }
      />
    </label>
  )
  return (
    <>
      <p className="mb-1 text-sm font-semibold">
        <Trans>Kinds</Trans>
      </p>
      <Kinds
        kinds={known.language?.kinds ?? []}
        values={list(test.kind)}
        occur={known.choices?.kinds ?? []}
        onChange={(kind) => set({ kind })}
      />
      {line('name', t`File names, with * for any text`, '*plan*, *.csv')}
      <div className="grid grid-cols-2 gap-3">
        {line('extension', t`Extensions`, 'csv, xlsx')}
        {line('type', t`Media types`, 'image/*')}
        <label className="mt-3 block text-sm font-semibold">
          <Trans>
            Over
            <input
              className="field mt-1 font-normal"
              placeholder="20 KB"
              value={test.larger ?? ''}
              onChange={(e) => set({ larger: e.target.value })}
            />
          </Trans>
        </label>
        <label className="mt-3 block text-sm font-semibold">
          <Trans>
            Under
            <input
              className="field mt-1 font-normal"
              placeholder="10 MB"
              value={test.smaller ?? ''}
              onChange={(e) => set({ smaller: e.target.value })}
            />
          </Trans>
        </label>
      </div>
      {line('name matches', t`File name matches (regular expression)`, '^BK-[0-9]+')}
      <label className="mt-3 block text-sm font-semibold">
        <Trans>
          Electronic invoices
          <select
            className="field mt-1 font-normal"
            value={test['electronic invoice'] ?? ''}
            onChange={(e) => set({ 'electronic invoice': e.target.value || undefined })}
          >
            <option value="">whether it is one or not</option>
            <option value="any">only electronic invoices, as XML or within a PDF</option>
            <option value="adds up">only those that add up</option>
            <option value="does not add up">only those that do not add up</option>
          </select>
        </Trans>
      </label>
      <div className="mt-3 border-t border-line pt-3">
        <TextList
          label={t`Words inside, any of them`}
          values={list(test.text?.contains)}
          onChange={(x) => set({ text: inner({ ...test.text, contains: x.length ? collapse(x) : undefined }) })}
        />
        <p className="mt-1 text-sm text-ink-3">
          <Trans>
            Ink Tray looks in PDFs, documents, spreadsheets, presentations and text files, and in scans if Tesseract is
            installed. A file that cannot be read waits in the tray.
          </Trans>
        </p>
      </div>
      <ValueTestEditor test={test} known={known} onChange={(value) => set({ value })} />
      <div className="mt-2">
        <Tick
          label={t`only what is shown within the text`}
          checked={test.inline === true}
          onChange={(on) => set({ inline: on || undefined })}
        />
      </div>
    </>
  )
}
