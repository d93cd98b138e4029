import { type KeyboardEvent, useId, useState } from 'react'

import type { Schemas } from '../api/client'
import { Blank, Button } from '../ui/basics'
import { emptyValue, type ItemTest, type Leaf, list, type Node, type Shape, shapeOf, shapes, type Texts, valueOf, withValue } from './document'

/** Adds and removes texts; what occurs in the mailboxes is offered. */
export function TextList({ label, values, onChange, offered = [] }: { label: string; values: string[]; onChange: (v: string[]) => void; offered?: { value: string; count: number }[] }) {
  const [typed, setTyped] = useState('')
  const id = useId()
  const add = (v: string) => {
    const t = v.trim()
    if (t && !values.includes(t)) onChange([...values, t])
    setTyped('')
  }
  const key = (e: KeyboardEvent) => { if (e.key === 'Enter') { e.preventDefault(); add(typed) } }
  const offers = offered.filter((o) => !values.includes(o.value) && o.value.includes(typed.toLowerCase())).slice(0, 6)
  return (
    <div>
      <ul className="mb-2 flex flex-wrap gap-1.5">
        {values.map((v) => (
          <li key={v} className="flex items-center gap-1 rounded border border-line-2 bg-sheet-2 pl-2">{v}
            <button className="px-1.5 text-ink-3 hover:text-seal" aria-label={`Take ${v} out`} onClick={() => onChange(values.filter((x) => x !== v))}>×</button>
          </li>
        ))}
      </ul>
      <label htmlFor={id} className="mb-1 block text-sm font-semibold">{label}</label>
      <div className="flex gap-2">
        <input id={id} autoFocus className="field" value={typed} onChange={(e) => setTyped(e.target.value)} onKeyDown={key} onBlur={() => add(typed)} />
        <Button onClick={() => add(typed)} disabled={!typed.trim()}>Add</Button>
      </div>
      {offers.length > 0 && (
        <div className="mt-3">
          <p className="text-sm text-ink-3">These write to the mailbox:</p>
          {offers.map((o) => <button key={o.value} className="add mr-2" onMouseDown={(e) => e.preventDefault()} onClick={() => add(o.value)}>{o.value} <span className="font-normal text-ink-3">{o.count}</span></button>)}
        </div>
      )}
    </div>
  )
}

export function Tick({ label, checked, onChange }: { label: string; checked: boolean; onChange: (on: boolean) => void }) {
  return <label className="flex items-center gap-2 py-0.5"><input type="checkbox" className="size-4 accent-[var(--pen)]" checked={checked} onChange={(e) => onChange(e.target.checked)} />{label}</label>
}

export function Kinds({ kinds, values, onChange }: { kinds: Schemas['Kind'][]; values: string[]; onChange: (v: string[]) => void }) {
  return (
    <div className="grid grid-cols-2">
      {kinds.map((k) => <Tick key={k.name} label={k.plural} checked={values.includes(k.name)} onChange={(on) => onChange(on ? [...values, k.name] : values.filter((v) => v !== k.name))} />)}
    </div>
  )
}

export const orList = (words: string[], last = 'or') => (words.length < 2 ? words.join('') : `${words.slice(0, -1).join(', ')} ${last} ${words.at(-1)}`)

const collapse = (v: string[]): Texts => (v.length === 1 ? v[0] : v)

const isText = (s: Shape) => s.values === 'texts' || s.values === 'domains'

type LeafProps = { leaf: Leaf; kinds: Schemas['Kind'][]; domains: Schemas['Choice'][]; wrong: string[]; exception?: boolean; onChange: (n: Node | null) => void }

/** One condition: its words, and a blank where it can be changed. */
export function LeafLine({ leaf, kinds, domains, wrong, exception, onChange }: LeafProps) {
  const s = shapeOf(leaf)
  if (!s) {
    return <><span className="rounded bg-sheet px-1 text-ink-2">{JSON.stringify(leaf)}</span> <button className="add" onClick={() => onChange(null)}>take out</button></>
  }
  const v = valueOf(leaf, s)
  const set = (x: unknown) => onChange({ leaf: withValue(s, x, leaf) })
  let words = exception ? s.words.replace(/^whose /, 'the ').replace(/^that are /, 'it is ') : s.words
  let shown: string
  if (s.values === 'texts' || s.values === 'domains') shown = orList(list(v as Texts), s.sub === 'all' ? 'and' : 'or')
  else if (s.values === 'item') shown = itemWords(v as ItemTest, kinds)
  else if (s.values === 'count') shown = `${Number(v)} attachments`
  else if (s.values === 'yes') { shown = v ? (s.key === 'read' ? 'read' : 'flagged') : s.key === 'read' ? 'unread' : 'not flagged'; words = exception ? 'it is' : 'that are' }
  else shown = String(v)
  return (
    <>
      {words}{' '}
      <Blank label={s.words} text={shown} wrong={wrong}>
        <LeafEditor s={s} v={v} kinds={kinds} domains={domains} set={set} change={(to) => onChange({ leaf: withValue(to, to.values === s.values || (isText(s) && isText(to)) ? v : emptyValue(to)) })} />
        {s.sub === 'domain' && <Tick label="without subdomains" checked={!!(leaf.sender as { exactly?: boolean }).exactly} onChange={(on) => onChange({ leaf: { sender: { domain: v, ...(on ? { exactly: true } : {}) } } })} />}
        <p className="mt-4 border-t border-line pt-3"><button className="add !text-seal" onClick={() => onChange(null)}>Take this condition out</button></p>
      </Blank>
    </>
  )
}

function LeafEditor({ s, v, kinds, domains, set, change }: { s: Shape; v: unknown; kinds: Schemas['Kind'][]; domains: Schemas['Choice'][]; set: (v: unknown) => void; change: (to: Shape) => void }) {
  const groups = [...new Set(shapes.map((x) => x.group))]
  return (
    <>
      <label className="mb-3 block text-sm font-semibold">What is looked at
        <select className="field mt-1 font-normal" value={shapes.indexOf(s)} onChange={(e) => change(shapes[Number(e.target.value)])}>
          {groups.map((g) => <optgroup key={g} label={g}>{shapes.map((x, i) => x.group === g && <option key={i} value={i}>{x.words}</option>)}</optgroup>)}
        </select>
      </label>
      {(s.values === 'texts' || s.values === 'domains') && <TextList label={s.values === 'domains' ? 'Another domain' : 'Another text'} values={list(v as Texts)} onChange={(x) => set(collapse(x))} offered={s.values === 'domains' ? domains : []} />}
      {s.values === 'item' && <ItemEditor test={v as ItemTest} kinds={kinds} onChange={set} />}
      {s.values === 'count' && <label className="block text-sm font-semibold">How many<input className="field mt-1 font-normal" type="number" min={0} value={Number(v)} onChange={(e) => set(Number(e.target.value))} /></label>}
      {(s.values === 'size' || s.values === 'age' || s.values === 'day') && (
        <label className="block text-sm font-semibold">{s.values === 'size' ? 'Size, such as 20 KB' : s.values === 'age' ? 'Such as 14 days, 2 weeks, 3 months' : 'Day'}
          <input className="field mt-1 font-normal" type={s.values === 'day' ? 'date' : 'text'} value={String(v)} onChange={(e) => set(e.target.value)} />
        </label>
      )}
      {s.values === 'yes' && <Tick label={s.key === 'read' ? 'read' : 'flagged'} checked={v === true} onChange={set} />}
    </>
  )
}

/** The pieces of a pattern: text, and fields between < and >. Quotes hide a >. */
export function pieces(pattern: string): { text?: string; field?: string }[] {
  const out: { text?: string; field?: string }[] = []
  let rest = pattern
  while (rest) {
    const open = rest.indexOf('<')
    if (open < 0) { out.push({ text: rest }); break }
    if (open > 0) out.push({ text: rest.slice(0, open) })
    let end = -1
    let quoted = false
    for (let i = open + 1; i < rest.length && end < 0; i++) {
      if (rest[i] === '\\' && quoted) i++
      else if (rest[i] === '"') quoted = !quoted
      else if (rest[i] === '>' && !quoted) end = i
    }
    if (end < 0) { out.push({ text: rest.slice(open) }); break }
    out.push({ field: rest.slice(open + 1, end) })
    rest = rest.slice(end + 1)
  }
  return out
}

export function PatternBlank({ label, value, onChange, wrong, language, example }: { label: string; value: string; onChange: (v: string) => void; wrong: string[]; language?: Schemas['Language']; example?: string }) {
  const id = useId()
  const usual = ['<received year>', '<received month> <received month name>', '<received date>', '<sender.name>', '<sender.domain>', '<subject>', '<file.stem>']
  const shown = pieces(value).map((p, i) => (p.field !== undefined ? <em key={i}>{p.field}</em> : <span key={i}>{p.text!.replaceAll('/', ' / ')}</span>))
  return (
    <Blank label={`${label}: ${value}`} text={value && <>{shown}</>} wrong={wrong}>
      <label htmlFor={id} className="mb-1 block text-sm font-semibold">{label}</label>
      <textarea id={id} autoFocus rows={3} spellCheck={false} className="field" value={value} onChange={(e) => onChange(e.target.value.replaceAll('\n', ''))} aria-describedby={id + 'x'} />
      <p id={id + 'x'} className={`mt-1 text-sm [overflow-wrap:anywhere] ${wrong.length ? 'text-seal' : 'text-ink-3'}`}>{wrong.length ? wrong.join(' ') : example ? `For example: ${example}` : 'A slash parts folders; fields stand between < and >.'}</p>
      <p className="mt-3 text-sm font-semibold">Put in a field</p>
      <div className="flex flex-wrap gap-1.5 pt-1">{usual.map((f) => <button key={f} className="rounded border border-line-2 bg-sheet-2 px-1.5 text-sm hover:border-pen" onClick={() => onChange(value + f)}>{f.replaceAll(/[<>]/g, '')}</button>)}</div>
      {language && (
        <details className="mt-3 text-sm">
          <summary className="font-semibold text-pen">All fields and words</summary>
          <dl className="mt-2 grid grid-cols-[auto_1fr] gap-x-3 gap-y-0.5">
            {language.fields.map((f) => <div key={f.name} className="contents"><dt><button className="add !p-0" onClick={() => onChange(value + f.example)}>{f.name}</button></dt><dd className="text-ink-2">{f.doc}</dd></div>)}
            {language.words.map((w) => <div key={w.name} className="contents"><dt className="text-ink-2">{w.example}</dt><dd className="text-ink-2">{w.doc}</dd></div>)}
          </dl>
        </details>
      )}
    </Blank>
  )
}

/** What an attachment must be, in words. */
export const itemWords = (t: ItemTest, kinds: Schemas['Kind'][]): string => {
  let noun = t.kind ? orList(list(t.kind).map((k) => kinds.find((x) => x.name === k)?.plural ?? k), 'and') : 'attachments'
  if (t.inline) noun = t.kind ? `inline ${noun}` : 'inline pictures'
  if (t.name) noun = (t.kind || t.inline ? noun : 'files') + ` named ${orList(list(t.name))}`
  if (t.extension) noun += ` ending in ${orList(list(t.extension))}`
  if (t.type) noun += ` of the type ${orList(list(t.type))}`
  if (t.larger) noun += ` over ${t.larger}`
  if (t.smaller) noun += ` under ${t.smaller}`
  return noun
}

export function ItemEditor({ test: t, kinds, onChange }: { test: ItemTest; kinds: Schemas['Kind'][]; onChange: (t: ItemTest) => void }) {
  const set = (changes: Partial<ItemTest>) => {
    const next = { ...t, ...changes }
    for (const k of Object.keys(next) as (keyof ItemTest)[]) if (next[k] === undefined || next[k] === '' || (Array.isArray(next[k]) && next[k].length === 0)) delete next[k]
    onChange(next)
  }
  return (
    <>
      <p className="mb-1 text-sm font-semibold">Kinds</p>
      <Kinds kinds={kinds} values={list(t.kind)} onChange={(kind) => set({ kind })} />
      <label className="mt-3 block text-sm font-semibold">Names, with * for any text
        <input className="field mt-1 font-normal" value={list(t.name).join(', ')} onChange={(e) => set({ name: e.target.value ? e.target.value.split(/,\s*/) : undefined })} />
      </label>
      <div className="mt-3 grid grid-cols-2 gap-3">
        <label className="block text-sm font-semibold">Over<input className="field mt-1 font-normal" placeholder="20 KB" value={t.larger ?? ''} onChange={(e) => set({ larger: e.target.value })} /></label>
        <label className="block text-sm font-semibold">Under<input className="field mt-1 font-normal" placeholder="10 MB" value={t.smaller ?? ''} onChange={(e) => set({ smaller: e.target.value })} /></label>
      </div>
      <div className="mt-2"><Tick label="only what is shown within the text" checked={t.inline === true} onChange={(on) => set({ inline: on || undefined })} /></div>
    </>
  )
}
