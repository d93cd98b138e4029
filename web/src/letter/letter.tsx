import type { ReactNode } from 'react'

import type { Schemas } from '../api/client'
import { Blank } from '../ui/basics'
import { ItemEditor, itemWords, LeafLine, orList, PatternBlank, TextList, Tick } from './blanks'
import { emptyValue, type Entry, fromNode, fromRoot, type Group, isGroup, type ItemTest, list, type Node, placeOf, type RuleDocument, shapes, toNode, toRoot, withValue } from './document'

export type Known = { mailboxes: string[]; cabinets: string[]; domains: Schemas['Choice'][]; language?: Schemas['Language'] }
type Props = { document: RuleDocument; known: Known; problems: Schemas['FieldProblem'][]; example?: string; onChange: (d: RuleDocument) => void }

/** What is told about a place of the document, as sentences. */
const about = (problems: Schemas['FieldProblem'][], place: string, deep = true) =>
  problems.filter((p) => p.place === place || (deep && (p.place.startsWith(place + '.') || p.place.startsWith(place + '[')))).map((p) => {
    const text = p.at ? `at character ${p.at} ${p.text.replace(/^in the pattern .*, column \d+: /, '')}` : p.text
    return `${text.charAt(0).toUpperCase()}${text.slice(1)}.${p.meant ? ` Did you mean “${p.meant}”?` : ''}`
  })

function Step({ title, children }: { title: string; children: ReactNode }) {
  return (
    <div className="grid gap-x-3.5 border-t border-line py-4 first:border-0 first:pt-0.5 sm:grid-cols-[6.6rem_minmax(0,1fr)]">
      <h2 className="!text-sm !leading-[1.9] text-ink-2">{title}</h2>
      <div className="leading-[2.05]">{children}</div>
    </div>
  )
}

const fresh = (): Node => ({ leaf: withValue(shapes[0], emptyValue(shapes[0])) })

/** The rule as a letter of instruction with blanks. */
export function Letter({ document: d, known, problems, example, onChange }: Props) {
  const set = (changes: Partial<RuleDocument>) => {
    const next = { ...d, ...changes }
    for (const k of Object.keys(next) as (keyof RuleDocument)[]) if (next[k] === undefined) delete next[k]
    onChange(next)
  }
  const root = toRoot(d.match)
  const unless = (d.unless ?? []).map(toNode)
  const entries = d.attachments ?? []
  const setEntry = (i: number, e: Entry | null) => set({ attachments: e ? entries.map((x, k) => (k === i ? e : x)) : entries.filter((_, k) => k !== i) })
  const mailboxes = list(d.look.mailboxes)
  const folders = list(d.look.folders)
  return (
    <section aria-label="The rule" className="rounded-xl border border-line bg-sheet-2 px-5 py-4">
      <Step title="Look">
        in <Blank label="Mailboxes" text={mailboxes[0] === 'all' ? 'all mailboxes' : orList(mailboxes, 'and')} wrong={about(problems, 'look.mailboxes')}>
          <p className="mb-2 text-sm font-semibold">Which mailboxes</p>
          <Tick label="all mailboxes" checked={mailboxes[0] === 'all'} onChange={(on) => set({ look: { ...d.look, mailboxes: on ? 'all' : [] } })} />
          {known.mailboxes.map((m) => <Tick key={m} label={m} checked={mailboxes.includes(m)} onChange={(on) => set({ look: { ...d.look, mailboxes: on ? [...mailboxes.filter((x) => x !== 'all'), m] : mailboxes.filter((x) => x !== m) } })} />)}
        </Blank>
        , folder <Blank label="Folders" text={folders.length ? orList(folders, 'and') : 'Inbox'}>
          <TextList label="Another mail folder, by its path" values={folders} onChange={(f) => set({ look: f.length ? { ...d.look, folders: f } : { mailboxes: d.look.mailboxes } })} />
          <p className="mt-2 text-sm text-ink-3">The inbox, where nothing is said.</p>
        </Blank>
      </Step>
      <Step title="for messages">
        {root ? <Branch group={root} base="match" known={known} problems={problems} onChange={(g) => set({ match: fromRoot(g) })} />
          : <p><Blank label="Every message" text="every message" wrong={about(problems, 'match', false)}><p>The rule is for every message of these folders.</p><button className="add mt-2" onClick={() => set({ match: fromRoot({ group: 'all', items: [fresh()] }) })}>Add a condition instead</button></Blank></p>}
        {unless.map((n, i) => (
          <p key={i}>{i === 0 ? 'unless ' : 'or '}
            {isGroup(n) ? <span className="text-ink-2">{JSON.stringify(fromNode(n))}</span>
              : <LeafLine exception leaf={n.leaf} kinds={known.language?.kinds ?? []} domains={known.domains} wrong={about(problems, `unless[${i}]`)}
                  onChange={(x) => { const all = unless.map(fromNode); if (x) all[i] = fromNode(x); else all.splice(i, 1); set({ unless: all.length ? all : undefined }) }} />}
          </p>
        ))}
        <p className="leading-normal">
          {root && <><button className="add" onClick={() => set({ match: fromRoot({ ...root, items: [...root.items, fresh()] }) })}>+ {root.group === 'all' ? 'and' : 'or'}…</button>{' '}
            <button className="add" onClick={() => set({ match: fromRoot({ ...root, items: [...root.items, { group: root.group === 'all' ? 'any' : 'all', items: [fresh(), fresh()] }] }) })}>+ a group…</button>{' '}</>}
          <button className="add" onClick={() => set({ unless: [...(d.unless ?? []), { subject: { begins: [] } }] })}>+ unless…</button>{' '}
          {root && root.items.length <= 1 && <button className="add" onClick={() => set({ match: 'every message' })}>every message instead</button>}
        </p>
      </Step>
      <Step title="File">
        {about(problems, 'attachments', false).map((t) => <p key={t} role="alert" className="text-sm leading-normal text-seal">{t}</p>)}
        {entries.map((e, i) => <EntryLines key={i} entry={e} place={`attachments[${i}]`} known={known} problems={problems} example={example} onChange={(x) => setEntry(i, x)} />)}
        <p>and the rest <Blank label="The rest" text={!d.rest || d.rest === 'leave' ? 'is left' : `in ${d.rest.folder}`} wrong={about(problems, 'rest')}>
          <Tick label="leave the rest where it is" checked={!d.rest || d.rest === 'leave'} onChange={(on) => set({ rest: on ? 'leave' : { folder: 'Other/<received year>' } })} />
          {d.rest && d.rest !== 'leave' && <label className="mt-2 block text-sm font-semibold">Folder<input className="field mt-1 font-normal" value={d.rest.folder} onChange={(e) => set({ rest: { ...(d.rest as { folder: string }), folder: e.target.value } })} /></label>}
        </Blank></p>
        <p>in the cabinet <Blank label="Cabinet" text={d.cabinet} wrong={about(problems, 'cabinet')}>
          <p className="mb-1 text-sm font-semibold">Which cabinet</p>
          {known.cabinets.map((c) => <label key={c} className="flex gap-2 py-0.5"><input type="radio" name="cabinet" checked={c === d.cabinet} onChange={() => set({ cabinet: c })} />{c}</label>)}
        </Blank></p>
        <p className="leading-normal">
          <button className="add" onClick={() => set({ attachments: [...entries, { take: [{ kind: 'pdf' }], folder: 'Mail/<received year>' }] })}>+ another place</button>{' '}
          <button className="add" onClick={() => set({ attachments: [{ leave: [{ inline: true, smaller: '20 KB' }] }, ...entries] })}>+ leave out…</button>
        </p>
        <p className="mt-2 text-sm leading-normal text-ink-3">{unasked(d['leave out'])}</p>
      </Step>
      <Step title="Then">
        later rules <Blank label="Later rules" text={d.then === 'stop' ? 'do not see' : 'see'}>
          <Tick label="later rules see the message too" checked={d.then !== 'stop'} onChange={(on) => set({ then: on ? undefined : 'stop' })} />
        </Blank> the message.
      </Step>
    </section>
  )
}

function unasked(leaveOut: string[] | undefined): string {
  const words = leaveOut ?? ['signature pictures', 'detached signatures', 'active files', 'forwarded messages']
  if (words.length === 0) return 'Nothing is left out unasked.'
  const said: Record<string, string> = { 'signature pictures': 'inline pictures under 20 KB', 'detached signatures': 'detached signatures', 'active files': 'active files', 'forwarded messages': 'forwarded messages themselves' }
  return `Left out unasked: ${orList(words.map((w) => said[w] ?? w), 'and')}.`
}

/** A group of conditions; "and" and "or" never stand mixed on one level. */
function Branch({ group, base, known, problems, onChange }: { group: Group; base: string; known: Known; problems: Schemas['FieldProblem'][]; onChange: (g: Group) => void }) {
  const word = group.group === 'all' ? 'and' : group.group === 'any' ? 'or' : 'nor'
  const setItem = (i: number, n: Node | null) => onChange({ ...group, items: n ? group.items.map((x, k) => (k === i ? n : x)) : group.items.filter((_, k) => k !== i) })
  return (
    <>
      {about(problems, `${base}.${group.group}`, false).concat(base === 'match' ? about(problems, 'match', false) : []).map((t) => <p key={t} role="alert" className="text-sm leading-normal text-seal">{t}</p>)}
      {group.items.map((n, i) => {
        const place = placeOf(group, base, i)
        const join = i > 0 && <button className="add !text-base !font-normal !text-ink underline decoration-dotted" title="Change between and and or" aria-label={`${word}: change to ${word === 'and' ? 'or' : 'and'}`} onClick={() => onChange({ ...group, group: group.group === 'all' ? 'any' : 'all' })}>{word}</button>
        if (isGroup(n)) {
          return (
            <div key={i}>{join}
              <div className="ml-2 border-l-2 border-line-2 pl-3">
                {n.group === 'none' && 'none of: '}
                <Branch group={n} base={place} known={known} problems={problems} onChange={(g) => setItem(i, g.items.length ? g : null)} />
                <p className="leading-normal"><button className="add" onClick={() => setItem(i, { ...n, items: [...n.items, fresh()] })}>+ {n.group === 'all' ? 'and' : 'or'}…</button></p>
              </div>
            </div>
          )
        }
        return <p key={i}>{join} <LeafLine leaf={n.leaf} kinds={known.language?.kinds ?? []} domains={known.domains} wrong={about(problems, place)} onChange={(x) => setItem(i, x)} /></p>
      })}
    </>
  )
}

function EntryLines({ entry: e, place, known, problems, example, onChange }: { entry: Entry; place: string; known: Known; problems: Schemas['FieldProblem'][]; example?: string; onChange: (e: Entry | null) => void }) {
  const kinds = known.language?.kinds ?? []
  const tests = e.take === 'everything' ? [] : (e.take ?? e.leave ?? [])
  const asList = Array.isArray(tests) ? tests : [tests]
  const key = e.take !== undefined ? 'take' : 'leave'
  const setTest = (i: number, t: ItemTest | null) => {
    const next = t ? asList.map((x, k) => (k === i ? t : x)) : asList.filter((_, k) => k !== i)
    onChange(next.length ? { ...e, [key]: next } : null)
  }
  const blanks = e.take === 'everything'
    ? <Blank label="Every attachment" text="every attachment"><button className="add" onClick={() => onChange({ ...e, take: [{ kind: 'pdf' }] })}>Only some kinds instead</button></Blank>
    : asList.map((t, i) => (
      <span key={i}>{i > 0 && ' and '}
        <Blank label={itemWords(t, kinds)} text={itemWords(t, kinds)} wrong={about(problems, `${place}.${key}[${i}]`)}>
          <ItemEditor test={t} kinds={kinds} onChange={(x) => setTest(i, x)} />
          <p className="mt-3 flex flex-wrap gap-2 border-t border-line pt-3">
            <button className="add" onClick={() => onChange({ ...e, [key]: [...asList, { name: '*.csv' }] })}>+ and others</button>
            {key === 'take' && <button className="add" onClick={() => onChange({ ...e, take: 'everything' })}>every attachment instead</button>}
            <button className="add !text-seal" onClick={() => setTest(i, null)}>Take out</button>
          </p>
        </Blank>
      </span>
    ))
  if (key === 'leave') return <p>leave out {blanks}</p>
  return (
    <div className="mb-1">
      <p>{blanks}, in</p>
      <p><PatternBlank label="Folder" value={e.folder ?? ''} onChange={(folder) => onChange({ ...e, folder })} wrong={about(problems, `${place}.folder`)} language={known.language} example={example} /></p>
      <p>named <PatternBlank label="File name" value={e.name ?? '<file.stem>'} onChange={(name) => onChange({ ...e, name: name === '<file.stem>' ? undefined : name })} wrong={about(problems, `${place}.name`)} language={known.language} example={example?.split('/').at(-1)} />
        ; a name that is taken is <Blank label="A name that is taken" text={e['if name exists'] === 'keep' ? 'kept' : 'numbered'}>
          <Tick label="keep the file that is there and leave the new one" checked={e['if name exists'] === 'keep'} onChange={(on) => onChange({ ...e, 'if name exists': on ? 'keep' : undefined })} />
          <p className="mt-1 text-sm text-ink-3">Otherwise the new one gets a number: plan (2).pdf. The same content is never stored twice under one name.</p>
        </Blank></p>
      <p className="leading-normal"><button className="add !font-normal !text-ink-3" onClick={() => onChange(null)}>Take this place out</button></p>
    </div>
  )
}
