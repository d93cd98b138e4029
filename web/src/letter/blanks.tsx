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
    const t = v.trim()
    if (t && !values.includes(t)) onChange([...values, t])
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
              aria-label={`Take ${v} out`}
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
          Add
        </Button>
      </div>
      {offers.length > 0 && (
        <div className="mt-3">
          <p className="text-sm text-ink-3">{about ?? 'In this mailbox:'}</p>
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

export const orList = (words: string[], last = 'or') =>
  words.length < 2 ? words.join('') : `${words.slice(0, -1).join(', ')} ${last} ${words.at(-1)}`

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
  domains: 'Senders in this mailbox:',
  addresses: 'Senders in this mailbox:',
  recipients: 'Recipients in this mailbox:',
  words: 'Words in subjects:',
  topics: 'In Settings:',
  labels: 'Labels on messages:',
  folders: 'Folders:',
  correspondents: 'Correspondents:',
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
  sender: 'choose a sender',
  'original sender': 'choose a sender',
  recipient: 'choose a recipient',
  'delivered to': 'enter an address',
  subject: 'enter words',
  'subject.full': 'enter words',
  words: 'enter words',
  topic: 'choose a topic',
  label: 'choose a label',
  folder: 'choose a folder',
}

/** One condition: its words, and a blank where it can be changed. */
export function LeafLine({ leaf, known, wrong, exception, onChange }: LeafProps) {
  const s = shapeOf(leaf)
  if (!s) {
    return (
      <>
        <span className="rounded bg-sheet px-1 text-ink-2">{JSON.stringify(leaf)}</span>{' '}
        <button className="add" onClick={() => onChange(null)}>
          take out
        </button>
      </>
    )
  }
  const v = valueOf(leaf, s)
  const set = (x: unknown) => onChange({ leaf: withValue(s, x, leaf) })
  let words = exception ? s.words.replace(/^whose /, 'the ').replace(/^that are /, 'it is ') : s.words
  let shown: string
  if (s.values === 'texts') shown = orList(list(v as Texts), s.sub === 'all' || s.sub === 'contains all' ? 'and' : 'or')
  else if (s.values === 'item') shown = itemWords(v as ItemTest, known.language?.kinds ?? [])
  else if (s.values === 'count') shown = `${Number(v)} attachments`
  else if (s.sub === 'verified') shown = v ? 'verified' : 'not verified'
  else if (s.values === 'yes') {
    shown = v ? (s.key === 'read' ? 'read' : 'flagged') : s.key === 'read' ? 'unread' : 'not flagged'
    words = exception ? 'it is' : 'that are'
  } else if (s.values === 'no') {
    shown = v ? 'something' : 'nothing'
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
            label="without subdomains"
            checked={!!domain.exactly}
            onChange={(on) => onChange({ leaf: { [s.key]: { domain: v, ...(on ? { exactly: true } : {}) } } })}
          />
        )}
        {s.key === 'topic' && <Sure leaf={leaf} onChange={onChange} />}
        {s.key === 'words' && <WordsIn leaf={leaf} sub={s.sub!} onChange={onChange} />}
        <p className="mt-4 border-t border-line pt-3">
          <button className="add !text-seal" onClick={() => onChange(null)}>
            Remove this condition
          </button>
        </p>
      </Blank>
    </>
  )
}

function WordsIn({ leaf, sub, onChange }: { leaf: Leaf; sub: string; onChange: (n: Node) => void }) {
  const w = leaf.words as Record<string, Texts>
  const places: [string, string][] = [
    ['subject', 'the subject'],
    ['body', 'the text'],
    ['names', 'the attachments’ names'],
  ]
  const on = w.in ? list(w.in) : places.map(([p]) => p)
  const set = (next: string[]) =>
    onChange({
      leaf: { words: { ...(next.length && next.length < places.length ? { in: next } : {}), [sub]: w[sub] } },
    })
  return (
    <div className="mt-3">
      <p className="text-sm font-semibold">Looked for in</p>
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
  const t = leaf.topic as { is: Texts; confidence?: string }
  const topics = useQuery(queries.topics)
  return (
    <label className="mt-3 block text-sm font-semibold">
      How sure it has to be
      <select
        className="field mt-1 font-normal"
        value={t.confidence ?? '85%'}
        onChange={(e) =>
          onChange({
            leaf: { topic: { is: t.is, ...(e.target.value === '85%' ? {} : { confidence: e.target.value }) } },
          })
        }
      >
        {[...new Set(['75%', '85%', '90%', '95%', t.confidence ?? '85%'])].sort().map((c) => (
          <option key={c} value={c}>
            {c.replace('%', ' %')}
          </option>
        ))}
      </select>
      <span className="font-normal text-ink-3">
        Less certain messages wait in the tray. Your answer there teaches the topic.
      </span>
      {topics.data
        ?.filter((x) => list(t.is).some((n) => n.toLowerCase() === x.name.toLowerCase()))
        .map((x) => (
          <span key={x.id} className="mt-2 block font-normal text-ink-2">
            {x.sentence}{' '}
            <Link className="text-pen underline" to={`/topics/${x.id}`}>
              Teach {x.name}…
            </Link>
          </span>
        ))}
    </label>
  )
}

type Header = { name: string; there?: boolean } & Partial<Record<string, Texts | boolean>>
const opWords: Record<string, string> = {
  contains: 'contains',
  'contains all': 'contains all of',
  is: 'is',
  begins: 'begins with',
  ends: 'ends with',
  like: 'is like',
  matches: 'matches',
  there: 'is there',
}
const opOf = (h: Header) => headerOps.find((o) => h[o] !== undefined) ?? 'contains'
const headerWords = (h: Header) => {
  const op = opOf(h)
  if (op === 'there') return `${h.name} ${h.there ? 'is there' : 'is not there'}`
  return h.name ? `${h.name} ${opWords[op]} ${orList(list(h[op] as Texts), op === 'contains all' ? 'and' : 'or')}` : ''
}

function HeaderEditor({ h, onChange }: { h: Header; onChange: (h: Header) => void }) {
  const op = opOf(h)
  return (
    <>
      <label className="mb-3 block text-sm font-semibold">
        Name of the field
        <input
          className="field mt-1 font-normal"
          placeholder="X-Reference"
          value={h.name}
          onChange={(e) => onChange({ ...h, name: e.target.value })}
        />
      </label>
      <label className="mb-3 block text-sm font-semibold">
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
      </label>
      {op === 'there' ? (
        <Tick label="it is there" checked={h.there === true} onChange={(on) => onChange({ name: h.name, there: on })} />
      ) : (
        <TextList
          label="Another text"
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
                      {x.sub === 'domain' ? `${x.words} the domain` : x.words}
                    </option>
                  ),
              )}
            </optgroup>
          ))}
        </select>
      </label>
      {s.values === 'texts' && (
        <TextList
          label={s.another ?? 'Another text'}
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
          How many
          <input
            className="field mt-1 font-normal"
            type="number"
            min={0}
            value={Number(v)}
            onChange={(e) => set(Number(e.target.value))}
          />
        </label>
      )}
      {(s.values === 'size' || s.values === 'age' || s.values === 'day') && (
        <label className="block text-sm font-semibold">
          {s.values === 'size'
            ? 'Size, such as 20 KB'
            : s.values === 'age'
              ? 'Such as 14 days, 2 weeks, 3 months, 1 year'
              : 'Day'}
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
              ? 'verified by a signature or a trusted mail server'
              : s.key === 'read'
                ? 'read'
                : 'flagged'
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
            ['no', 'nothing', 'Only what no earlier rule takes'],
            ['yes', 'something'],
          ]}
          onChange={(x) => set(x === 'yes')}
        />
      )}
    </>
  )
}

const usual: [string, string][] = [
  ['year', '<received year>'],
  ['month', '<received month> <received month name>'],
  ['date', '<received date>'],
  ['sender', '<sender.name>'],
  ['sender’s domain', '<sender.domain>'],
  ['correspondent', '<correspondent or sender.domain>'],
  ['subject', '<subject>'],
  ['file name', '<file.stem>'],
  ['kind', '<file.kind>'],
  ['register number', '<register.year>-<register pad 4>'],
]
const ready: [string, string][] = [
  ['by year and month', 'Mail/<received year>/<received month> <received month name>'],
  ['by correspondent, then year', 'Mail/<correspondent or sender.domain>/<received year>'],
  ['by kind', 'Mail/<file.kind>/<received year>'],
]
const readyNames: [string, string][] = [
  ['the original name', '<file.stem>'],
  ['date, then its name', '<received date> <file.stem>'],
  ['date, sender, its name', '<received date> <sender.domain> <file.stem>'],
  ['with a running number', '<register.year>-<register pad 4> <file.stem>'],
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
      <p className="mb-1 text-sm font-semibold">Usual {names ? 'names' : 'folders'}</p>
      <div className="mb-3 flex flex-wrap gap-1.5">
        {(names ? readyNames : ready).map(([word, p]) => (
          <button key={p} className={chip} aria-pressed={p === value} onClick={() => onChange(p)}>
            {word}
          </button>
        ))}
      </div>
      <p className="mb-1 text-sm font-semibold">Add</p>
      <div className="mb-3 flex flex-wrap gap-1.5">
        {!names && (
          <button className={chip} onClick={() => put('/')}>
            a folder below
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
        {language?.tables.map((t) => (
          <button key={t} className={chip} onClick={() => put(`<lookup ${t} of (file.stem)>`)}>
            look up in {t}
          </button>
        ))}
      </div>
      {parts.some((p) => p.field !== undefined) && (
        <div className="mb-3 flex flex-wrap gap-1.5" aria-label="Fields in use">
          {parts.map(
            (p, i) =>
              p.field !== undefined && (
                <span key={i} className="flex items-center rounded border border-line-2 pl-1.5 text-sm">
                  {inWords(p.field, fields)}
                  <button
                    className="px-1.5 text-ink-3 hover:text-seal"
                    aria-label={`Remove ${inWords(p.field, fields)}`}
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
        {label}, as text
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
          <>
            For example: <b className="font-semibold">{example}</b>
          </>
        ) : (
          'Text stays as it is. Fields are written between < and >.'
        )}
      </p>
      {language && (
        <details className="mt-3 text-sm">
          <summary className="font-semibold text-pen">All fields and words</summary>
          <dl className="mt-2 grid grid-cols-[auto_1fr] gap-x-3 gap-y-0.5">
            {language.fields.map((f) => (
              <div key={f.name} className="contents">
                <dt>
                  <button className="add !p-0" title={f.example} onClick={() => put(f.example)}>
                    {f.type === 'date' ? `date ${f.words}` : f.words}
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
export const itemWords = (t: ItemTest, kinds: Schemas['Kind'][]): string => {
  let noun = t.kind
    ? orList(
        list(t.kind).map((k) => kinds.find((x) => x.name === k)?.plural ?? k),
        'and',
      )
    : 'attachments'
  if (t.inline) noun = t.kind ? `inline ${noun}` : 'inline pictures'
  if (t.inline === false) noun += ' that are not inline'
  if (t.name) noun = (t.kind || t.inline ? noun : 'files') + ` named ${orList(list(t.name))}`
  if (t['name matches']) noun += ` whose name matches ${orList(list(t['name matches']))}`
  if (t.extension) noun += ` ending in ${orList(list(t.extension))}`
  if (t.type) noun += ` of the type ${orList(list(t.type))}`
  if (t.larger) noun += ` over ${t.larger}`
  if (t.smaller) noun += ` under ${t.smaller}`
  const invoice = t['electronic invoice']
  if (invoice)
    noun += ` that are electronic invoices${{ any: '', 'adds up': ' which add up', 'does not add up': ' which do not add up' }[invoice] ?? ''}`
  const any = [...list(t.text?.contains), ...list(t.text?.['contains any'])]
  if (any.length) noun += ` in which ${orList(any)} stands`
  if (t.text?.['contains all']) noun += ` in which ${orList(list(t.text['contains all']), 'and')} stand`
  if (t.text?.matches) noun += ` in which something matches ${orList(list(t.text.matches))}`
  const values = valueWords(t)
  return values ? `${noun} ${values}` : noun
}

const inner = (t: InnerText): InnerText | undefined => {
  const kept = Object.fromEntries(Object.entries(t).filter(([, v]) => v !== undefined))
  return Object.keys(kept).length ? kept : undefined
}

export function ItemEditor({
  test: t,
  known,
  onChange,
}: {
  test: ItemTest
  known: Known
  onChange: (t: ItemTest) => void
}) {
  const set = (changes: Partial<ItemTest>) => {
    const next = { ...t, ...changes }
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
        defaultValue={list(t[key]).join(', ')}
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
      <p className="mb-1 text-sm font-semibold">Kinds</p>
      <Kinds
        kinds={known.language?.kinds ?? []}
        values={list(t.kind)}
        occur={known.choices?.kinds ?? []}
        onChange={(kind) => set({ kind })}
      />
      {line('name', 'File names, with * for any text', '*plan*, *.csv')}
      <div className="grid grid-cols-2 gap-3">
        {line('extension', 'Extensions', 'csv, xlsx')}
        {line('type', 'Media types', 'image/*')}
        <label className="mt-3 block text-sm font-semibold">
          Over
          <input
            className="field mt-1 font-normal"
            placeholder="20 KB"
            value={t.larger ?? ''}
            onChange={(e) => set({ larger: e.target.value })}
          />
        </label>
        <label className="mt-3 block text-sm font-semibold">
          Under
          <input
            className="field mt-1 font-normal"
            placeholder="10 MB"
            value={t.smaller ?? ''}
            onChange={(e) => set({ smaller: e.target.value })}
          />
        </label>
      </div>
      {line('name matches', 'File name matches (regular expression)', '^BK-[0-9]+')}
      <label className="mt-3 block text-sm font-semibold">
        Electronic invoices
        <select
          className="field mt-1 font-normal"
          value={t['electronic invoice'] ?? ''}
          onChange={(e) => set({ 'electronic invoice': e.target.value || undefined })}
        >
          <option value="">whether it is one or not</option>
          <option value="any">only electronic invoices, as XML or within a PDF</option>
          <option value="adds up">only those that add up</option>
          <option value="does not add up">only those that do not add up</option>
        </select>
      </label>
      <div className="mt-3 border-t border-line pt-3">
        <TextList
          label="Words inside, any of them"
          values={list(t.text?.contains)}
          onChange={(x) => set({ text: inner({ ...t.text, contains: x.length ? collapse(x) : undefined }) })}
        />
        <p className="mt-1 text-sm text-ink-3">
          Ink Tray looks in PDFs, documents, spreadsheets, presentations and text files, and in scans if Tesseract is
          installed. A file that cannot be read waits in the tray.
        </p>
      </div>
      <ValueTestEditor test={t} known={known} onChange={(value) => set({ value })} />
      <div className="mt-2">
        <Tick
          label="only what is shown within the text"
          checked={t.inline === true}
          onChange={(on) => set({ inline: on || undefined })}
        />
      </div>
    </>
  )
}
