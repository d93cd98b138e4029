import type { ReactNode } from 'react'

import type { Schemas } from '../api/client'
import { Blank, Tick } from '../ui/basics'
import { Afterwards } from './afterwards'
import { ItemEditor, itemWords, type Known, LeafLine, OneOf, orList, PatternBlank, TextList } from './blanks'
import {
  type Copy,
  emptyValue,
  type Entry,
  fromNode,
  fromRoot,
  type Group,
  isGroup,
  type ItemTest,
  list,
  type Node,
  type Place,
  placeOf,
  type RuleDocument,
  shapes,
  toNode,
  toRoot,
  withValue,
} from './document'
import { Values } from './values'

type Problems = Schemas['FieldProblem'][]
type Props = {
  document: RuleDocument
  known: Known
  problems: Problems
  example?: string
  onChange: (d: RuleDocument) => void
}

/** What is told about a place of the document, as sentences. */
const about = (problems: Problems, place: string, deep = true) =>
  problems
    .filter((p) => p.place === place || (deep && (p.place.startsWith(place + '.') || p.place.startsWith(place + '['))))
    .map((p) => {
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

const Told = ({ texts }: { texts: string[] }) =>
  texts.map((t) => (
    <p key={t} role="alert" className="text-sm leading-normal text-seal">
      {t}
    </p>
  ))

const fresh = (): Node => ({ leaf: withValue(shapes[0], emptyValue(shapes[0])) })

const without = <T extends object>(value: T): T => {
  const next = { ...value }
  for (const k of Object.keys(next) as (keyof T)[]) if (next[k] === undefined) delete next[k]
  return next
}

/** The rule as a letter of instruction with blanks. */
export function Letter({ document: d, known: offered, problems, example, onChange }: Props) {
  const values = [d.values ?? []].flat()
  const known = { ...offered, values }
  const set = (changes: Partial<RuleDocument>) => onChange(without({ ...d, ...changes }))
  const root = toRoot(d.match)
  const unless = (d.unless ?? []).map(toNode)
  const entries = d.attachments ?? []
  const steps = d.afterwards === undefined ? [] : Array.isArray(d.afterwards) ? d.afterwards : [d.afterwards]
  const setEntry = (i: number, e: Entry | null) =>
    set({ attachments: e ? entries.map((x, k) => (k === i ? e : x)) : entries.filter((_, k) => k !== i) })
  const setUnless = (i: number, n: Node | null) => {
    const all = unless.map(fromNode)
    if (n) all[i] = fromNode(n)
    else all.splice(i, 1)
    set({ unless: all.length ? all : undefined })
  }
  const mailboxes = list(d.look.mailboxes)
  const folders = list(d.look.folders)
  const every = folders.length === 1 && folders[0].toLowerCase() === 'all'
  return (
    <section aria-label="The rule" className="rounded-xl border border-line bg-sheet-2 px-5 py-4">
      <Step title="Look">
        in{' '}
        <Blank
          label="Mailboxes"
          text={mailboxes[0] === 'all' ? 'all mailboxes' : orList(mailboxes, 'and')}
          wrong={about(problems, 'look.mailboxes')}
        >
          <p className="mb-2 text-sm font-semibold">Which mailboxes</p>
          <Tick
            label="all mailboxes"
            checked={mailboxes[0] === 'all'}
            onChange={(on) => set({ look: { ...d.look, mailboxes: on ? 'all' : [] } })}
          />
          {known.mailboxes.map((m) => (
            <Tick
              key={m}
              label={m}
              checked={mailboxes.includes(m)}
              onChange={(on) =>
                set({
                  look: {
                    ...d.look,
                    mailboxes: on ? [...mailboxes.filter((x) => x !== 'all'), m] : mailboxes.filter((x) => x !== m),
                  },
                })
              }
            />
          ))}
        </Blank>
        , folder{' '}
        <Blank
          label="Folders"
          text={
            every
              ? 'every folder'
              : (folders.length ? orList(folders, 'and') : 'Inbox') + (d.look.subfolders ? ' and what is in it' : '')
          }
        >
          <Tick
            label="every folder, but for trash, junk, drafts, sent and what others share"
            checked={every}
            onChange={(on) =>
              set({ look: on ? { mailboxes: d.look.mailboxes, folders: 'all' } : { mailboxes: d.look.mailboxes } })
            }
          />
          {!every && (
            <Tick
              label="also the folders within"
              checked={!!d.look.subfolders}
              onChange={(on) => set({ look: { ...d.look, subfolders: on || undefined } })}
            />
          )}
          <TextList
            label="Another mail folder, by its path"
            values={every ? [] : folders}
            offered={known.folders.map((value) => ({ value }))}
            about="Folders:"
            onChange={(f) => set({ look: { ...d.look, folders: f.length ? f : undefined } })}
          />
          <p className="mt-2 text-sm text-ink-3">If you choose nothing, the inbox.</p>
        </Blank>
      </Step>
      <Step title="for messages">
        {root ? (
          <Branch
            group={root}
            base="match"
            known={known}
            problems={problems}
            onChange={(g) => set({ match: fromRoot(g) })}
          />
        ) : (
          <p>
            <Blank label="Every message" text="every message" wrong={about(problems, 'match', false)}>
              <p>The rule applies to every message in these folders.</p>
              <button className="add mt-2" onClick={() => set({ match: fromRoot({ group: 'all', items: [fresh()] }) })}>
                Add a condition instead
              </button>
            </Blank>
          </p>
        )}
        {unless.map((n, i) => (
          <div key={i}>
            {i === 0 ? 'unless ' : 'or '}
            {isGroup(n) ? (
              <Nested
                group={n}
                base={`unless[${i}]`}
                known={known}
                problems={problems}
                onChange={(g) => setUnless(i, g)}
                exception
              />
            ) : (
              <>
                <LeafLine
                  exception
                  leaf={n.leaf}
                  known={known}
                  wrong={about(problems, `unless[${i}]`)}
                  onChange={(x) => setUnless(i, x)}
                />{' '}
                <button className="add" onClick={() => setUnless(i, { group: 'all', items: [n, fresh()] })}>
                  and…
                </button>
              </>
            )}
          </div>
        ))}
        <p className="leading-normal">
          {root && (
            <>
              <button
                className="add"
                onClick={() => set({ match: fromRoot({ ...root, items: [...root.items, fresh()] }) })}
              >
                + {root.group === 'all' ? 'and' : 'or'}…
              </button>{' '}
              <button
                className="add"
                onClick={() =>
                  set({
                    match: fromRoot({
                      ...root,
                      items: [
                        ...root.items,
                        { group: root.group === 'all' ? 'any' : 'all', items: [fresh(), fresh()] },
                      ],
                    }),
                  })
                }
              >
                + a group…
              </button>{' '}
            </>
          )}
          <button className="add" onClick={() => set({ unless: [...(d.unless ?? []), { subject: { begins: [] } }] })}>
            + unless…
          </button>{' '}
          {root && root.items.length <= 1 && (
            <button className="add" onClick={() => set({ match: 'every message' })}>
              every message instead
            </button>
          )}
        </p>
      </Step>
      <Step title="File">
        <Told texts={about(problems, 'attachments', false)} />
        {entries.map((e, i) => (
          <EntryLines
            key={i}
            entry={e}
            place={`attachments[${i}]`}
            known={known}
            problems={problems}
            example={example}
            cabinet={d.cabinet}
            onChange={(x) => setEntry(i, x)}
            onMove={
              i > 0
                ? () =>
                    set({
                      attachments: entries.map((x, k) => (k === i - 1 ? entries[i] : k === i ? entries[i - 1] : x)),
                    })
                : undefined
            }
          />
        ))}
        {d.rest && d.rest !== 'leave' ? (
          <div className="mb-1">
            <p>the rest, in</p>
            <PlaceLines
              place={d.rest}
              at="rest"
              known={known}
              problems={problems}
              cabinet={d.cabinet}
              archives
              onChange={(p) => set({ rest: { ...p, folder: p.folder ?? '' } })}
            />
            <p className="leading-normal">
              <button className="add !font-normal !text-ink-3" onClick={() => set({ rest: undefined })}>
                Leave the rest instead
              </button>
            </p>
          </div>
        ) : (
          <p>
            and the rest{' '}
            <Blank label="The rest" text="is left" wrong={about(problems, 'rest')}>
              <p>Attachments that no line above takes stay in the mailbox.</p>
              <button className="add mt-2" onClick={() => set({ rest: { folder: 'Other/<received year>' } })}>
                File the rest, too
              </button>
            </Blank>
          </p>
        )}
        <Copies
          copies={d.copies ?? []}
          problems={problems}
          onChange={(copies) => set({ copies: copies.length ? copies : undefined })}
        />
        <p>
          in the cabinet{' '}
          <Blank label="Cabinet" text={d.cabinet} wrong={about(problems, 'cabinet')}>
            <p className="mb-1 text-sm font-semibold">Which cabinet</p>
            <OneOf
              name="cabinet"
              value={d.cabinet}
              choices={known.cabinets.map((c) => [c, c])}
              onChange={(cabinet) => set({ cabinet })}
            />
          </Blank>
        </p>
        <p className="leading-normal">
          <button
            className="add"
            onClick={() =>
              set({ attachments: [...entries, { take: [{ kind: 'pdf' }], folder: 'Mail/<received year>' }] })
            }
          >
            + add a destination
          </button>{' '}
          <button
            className="add"
            onClick={() => set({ attachments: [{ leave: [{ inline: true, smaller: '20 KB' }] }, ...entries] })}
          >
            + leave out…
          </button>
        </p>
        {d['leave out'] || d.hold ? (
          <>
            <Unasked words={d['leave out']} onChange={(words) => set({ 'leave out': words })} />
            <Cautions words={d.hold} left={d['leave out']} onChange={(hold) => set({ hold })} />
          </>
        ) : (
          <p className="mt-2 text-sm leading-normal text-ink-3">
            With the{' '}
            <Blank label="The usual safeguards" text="usual safeguards">
              <p className="mb-1 text-sm font-semibold">Always left out</p>
              <UnaskedTicks onChange={(words) => set({ 'leave out': words })} />
              <p className="mt-3 mb-1 text-sm font-semibold">Held for your decision</p>
              <CautionTicks onChange={(hold) => set({ hold })} />
            </Blank>
            .
          </p>
        )}
      </Step>
      <Step title="Read from each file">
        <Told texts={about(problems, 'values', false)} />
        <Values
          values={values}
          read={offered.read ?? []}
          rule={offered.rule}
          wrong={(place) => about(problems, place)}
          onChange={(values) => set({ values })}
        />
        <p className="mt-1 text-sm leading-normal text-ink-3">
          Searches of the register {d['full text'] ? 'find' : 'do not find'} the words inside of these files.{' '}
          <Blank label="Words inside: change" text="change">
            <Tick
              label="searches find the words inside of these files"
              checked={d['full text'] === true}
              onChange={(on) => set({ 'full text': on || undefined })}
            />
            <p className="mt-1 text-sm text-ink-3">
              Such as inside:&quot;oily water&quot;. Ink Tray also reads files that are filed already. Everyone who may
              see a file can find its words.
            </p>
          </Blank>
        </p>
      </Step>
      <Step title="Afterwards">
        <Told texts={about(problems, 'afterwards', false)} />
        <Afterwards
          steps={steps}
          known={known}
          wrong={(place) => about(problems, place)}
          onChange={(s) => set({ afterwards: s.length ? s : undefined })}
        />
      </Step>
      <Step title="Then">
        later rules{' '}
        <Blank label="Later rules" text={d.then === 'stop' ? 'do not see' : 'see'}>
          <Tick
            label="later rules see the message too"
            checked={d.then !== 'stop'}
            onChange={(on) => set({ then: on ? undefined : 'stop' })}
          />
        </Blank>{' '}
        the message.
      </Step>
    </section>
  )
}

const defaults: [string, string][] = [
  ['signature pictures', 'inline pictures under 20 KB'],
  ['detached signatures', 'detached signatures'],
  ['active files', 'active files'],
  ['forwarded messages', 'forwarded messages themselves'],
  ['delivery reports', 'delivery reports'],
]

function Unasked({ words, onChange }: { words?: string[]; onChange: (words: string[] | undefined) => void }) {
  const on = words ?? defaults.map(([k]) => k)
  const text = on.length
    ? orList(
        defaults.filter(([k]) => on.includes(k)).map(([, t]) => t),
        'and',
      )
    : 'nothing'
  return (
    <p className="mt-2 text-sm leading-normal text-ink-3">
      Always left out: {text}.{' '}
      <Blank label="Always left out: change" text="change">
        <UnaskedTicks words={words} onChange={onChange} />
      </Blank>
    </p>
  )
}

function UnaskedTicks({ words, onChange }: { words?: string[]; onChange: (words: string[] | undefined) => void }) {
  const on = words ?? defaults.map(([k]) => k)
  return defaults.map(([k, t]) => (
    <Tick
      key={k}
      label={t}
      checked={on.includes(k)}
      onChange={(yes) => {
        const next = defaults.map(([x]) => x).filter((x) => (x === k ? yes : on.includes(x)))
        onChange(next.length === defaults.length ? undefined : next)
      }}
    />
  ))
}

const cautions: [string, string][] = [
  ['disguised files', 'files that are not what their name says'],
  ['macros', 'office files with macros'],
  ['locked archives', 'archives with a password'],
  ['active files', 'active files'],
]

/** What waits in the tray until a person has looked; active files only where they are not left out. */
function Cautions({
  words,
  left,
  onChange,
}: {
  words?: string[]
  left?: string[]
  onChange: (words: string[] | undefined) => void
}) {
  const on = words ?? cautions.map(([k]) => k)
  const out = !left || left.includes('active files')
  const told = cautions.filter(([k]) => on.includes(k) && !(k === 'active files' && out)).map(([, t]) => t)
  return (
    <p className="mt-1 text-sm leading-normal text-ink-3">
      Held for your decision: {told.length ? orList(told, 'and') : 'nothing'}.{' '}
      <Blank label="Held for your decision: change" text="change">
        <CautionTicks words={words} onChange={onChange} />
      </Blank>
    </p>
  )
}

function CautionTicks({ words, onChange }: { words?: string[]; onChange: (words: string[] | undefined) => void }) {
  const on = words ?? cautions.map(([k]) => k)
  return cautions.map(([k, t]) => (
    <Tick
      key={k}
      label={t}
      checked={on.includes(k)}
      onChange={(yes) => {
        const next = cautions.map(([x]) => x).filter((x) => (x === k ? yes : on.includes(x)))
        onChange(next.length === cautions.length ? undefined : next)
      }}
    />
  ))
}

const forms: [string, string, string][] = [
  ['eml', 'EML', 'the message itself, whole'],
  ['pdf', 'PDF', 'with its pictures; if it cannot be drawn, an EML is added'],
  ['html', 'web page', 'that loads nothing'],
  ['text', 'text', ''],
]

function Copies({ copies, problems, onChange }: { copies: Copy[]; problems: Problems; onChange: (c: Copy[]) => void }) {
  const folder = copies.find((c) => c.folder)?.folder
  const text = copies.length
    ? `${orList(
        copies.map((c) => forms.find(([f]) => f === c.as)?.[1] ?? c.as),
        'and',
      )}${folder ? ` in ${folder}` : ''}`
    : 'none'
  return (
    <p>
      copies of the message:{' '}
      <Blank label="Copies of the message" text={text} wrong={about(problems, 'copies')}>
        <p className="mb-1 text-sm font-semibold">Beside the attachments, a copy as</p>
        {forms.map(([f, label, hint]) => (
          <Tick
            key={f}
            label={hint ? `${label}: ${hint}` : label}
            checked={copies.some((c) => c.as === f)}
            onChange={(on) =>
              onChange(on ? [...copies, { ...(folder ? { folder } : {}), as: f }] : copies.filter((c) => c.as !== f))
            }
          />
        ))}
        {copies.length > 0 && (
          <div className="mt-3">
            <Tick
              label="in a folder of their own"
              checked={!!folder}
              onChange={(on) =>
                onChange(copies.map((c) => without({ ...c, folder: on ? 'Letters/<received year>' : undefined })))
              }
            />
            {folder && (
              <label className="mt-1 block text-sm font-semibold">
                Folder
                <input
                  className="field mt-1 font-normal"
                  value={folder}
                  onChange={(e) => onChange(copies.map((c) => ({ ...c, folder: e.target.value })))}
                />
              </label>
            )}
          </div>
        )}
      </Blank>
    </p>
  )
}

/** A group within another: told by its indentation. */
function Nested({
  group: n,
  base,
  known,
  problems,
  exception,
  onChange,
}: {
  group: Group
  base: string
  known: Known
  problems: Problems
  exception?: boolean
  onChange: (g: Group | null) => void
}) {
  return (
    <div className="ml-2 border-l-2 border-line-2 pl-3">
      {n.group === 'none' && 'none of: '}
      <Branch
        group={n}
        base={base}
        known={known}
        problems={problems}
        exception={exception}
        onChange={(g) => onChange(g.items.length ? g : null)}
      />
      <p className="leading-normal">
        <button className="add" onClick={() => onChange({ ...n, items: [...n.items, fresh()] })}>
          + {n.group === 'all' ? 'and' : n.group === 'any' ? 'or' : 'nor'}…
        </button>{' '}
        {n.group !== 'none' && (
          <button className="add !font-normal !text-ink-3" onClick={() => onChange({ ...n, group: 'none' })}>
            none of these instead
          </button>
        )}
        {n.group === 'none' && (
          <button className="add !font-normal !text-ink-3" onClick={() => onChange({ ...n, group: 'any' })}>
            any of these instead
          </button>
        )}
      </p>
    </div>
  )
}

/** A group of conditions; "and" and "or" never stand mixed on one level. */
function Branch({
  group,
  base,
  known,
  problems,
  exception,
  onChange,
}: {
  group: Group
  base: string
  known: Known
  problems: Problems
  exception?: boolean
  onChange: (g: Group) => void
}) {
  const word = group.group === 'all' ? 'and' : group.group === 'any' ? 'or' : 'nor'
  const setItem = (i: number, n: Node | null) =>
    onChange({
      ...group,
      items: n ? group.items.map((x, k) => (k === i ? n : x)) : group.items.filter((_, k) => k !== i),
    })
  return (
    <>
      <Told
        texts={about(problems, `${base}.${group.group}`, false).concat(
          base === 'match' ? about(problems, 'match', false) : [],
        )}
      />
      {group.items.map((n, i) => {
        const place = placeOf(group, base, i)
        const join =
          i > 0 &&
          (group.group === 'none' ? (
            'nor'
          ) : (
            <button
              className="add !text-base !font-normal !text-ink underline decoration-dotted"
              title="Change between and and or"
              aria-label={`${word}: change to ${word === 'and' ? 'or' : 'and'}`}
              onClick={() => onChange({ ...group, group: group.group === 'all' ? 'any' : 'all' })}
            >
              {word}
            </button>
          ))
        if (isGroup(n))
          return (
            <div key={i}>
              {join}
              <Nested
                group={n}
                base={place}
                known={known}
                problems={problems}
                exception={exception}
                onChange={(g) => setItem(i, g)}
              />
            </div>
          )
        return (
          <p key={i}>
            {join}{' '}
            <LeafLine
              exception={exception}
              leaf={n.leaf}
              known={known}
              wrong={about(problems, place)}
              onChange={(x) => setItem(i, x)}
            />
          </p>
        )
      })}
    </>
  )
}

const takenWords: Record<string, string> = {
  number: 'add a number',
  keep: 'keep the file that is there',
  replace: 'replace the file that is there',
}
const unpackWords: Record<string, string> = {
  archive: 'filed as they are',
  files: 'unpacked',
  both: 'unpacked, and filed as well',
}

/** Where something goes: folder, name, and what happens when the name is taken. */
function PlaceLines({
  place: p,
  at,
  known,
  problems,
  example,
  cabinet,
  archives,
  onChange,
}: {
  place: Place
  at: string
  known: Known
  problems: Problems
  example?: string
  cabinet: string
  archives: boolean
  onChange: (p: Place) => void
}) {
  const set = (changes: Partial<Place>) => onChange(without({ ...p, ...changes }))
  const unpack = p.unpack ?? 'archive'
  return (
    <>
      <p>
        <PatternBlank
          label="Folder"
          value={p.folder ?? ''}
          onChange={(folder) => set({ folder })}
          wrong={about(problems, `${at}.folder`)}
          known={known}
          example={example?.split('/').slice(0, -1).join('/')}
        />
        {(known.cabinets.length > 1 || p.cabinet) && (
          <>
            {' '}
            of{' '}
            <Blank label="Cabinet of this place" text={p.cabinet ?? cabinet} wrong={about(problems, `${at}.cabinet`)}>
              <OneOf
                name={`cabinet ${at}`}
                value={p.cabinet ?? cabinet}
                choices={known.cabinets.map((c) => [c, c])}
                onChange={(c) => set({ cabinet: c === cabinet ? undefined : c })}
              />
            </Blank>
          </>
        )}
        {p['own folder'] ? (
          <>
            ,{' '}
            <Blank label="A folder for each message" text="each message in a folder of its own">
              <p className="text-sm text-ink-2">
                It is called by date and subject: 2026-05-12 Berth plan 7 k3x9q2mfa7bd.
              </p>
              <button className="add mt-2" onClick={() => set({ 'own folder': undefined })}>
                All messages together instead
              </button>
            </Blank>
          </>
        ) : (
          <>
            {' '}
            <button className="add !font-normal !text-ink-3" onClick={() => set({ 'own folder': true })}>
              a folder for each message…
            </button>
          </>
        )}
      </p>
      <p>
        named{' '}
        <PatternBlank
          names
          label="File name"
          value={p.name ?? '<file.stem>'}
          onChange={(name) => set({ name: name === '<file.stem>' ? undefined : name })}
          wrong={about(problems, `${at}.name`)}
          known={known}
          example={example?.split('/').at(-1)}
        />
        ; if the name is taken:{' '}
        <Blank
          label="A name that is taken"
          text={takenWords[p['if name exists'] ?? 'number']}
          wrong={about(problems, `${at}.if name exists`)}
        >
          <OneOf
            name={`taken ${at}`}
            value={p['if name exists'] ?? 'number'}
            onChange={(v) => set({ 'if name exists': v === 'number' ? undefined : v })}
            choices={[
              ['number', 'add a number', 'The new one becomes plan (2).pdf.'],
              [
                'replace',
                'replace the file that is there',
                'For a report that comes again and again. A later message replaces a file that Ink Tray filed and nobody changed. The earlier file is kept aside.',
              ],
              ['keep', 'keep the file that is there', 'The new one is not filed.'],
            ]}
          />
          <p className="mt-1 text-sm text-ink-3">The same content is never filed twice under one name.</p>
        </Blank>
        {(archives || p.unpack) && (
          <>
            ; archives are{' '}
            <Blank
              label="Archives"
              text={
                unpackWords[unpack] +
                (unpack !== 'archive' && p['inner folders'] === 'drop' ? ', without their folders' : '')
              }
              wrong={about(problems, `${at}.unpack`).concat(about(problems, `${at}.inner folders`))}
            >
              <OneOf
                name={`unpack ${at}`}
                value={unpack}
                onChange={(v) =>
                  set(v === 'archive' ? { unpack: undefined, 'inner folders': undefined } : { unpack: v })
                }
                choices={[
                  ['archive', 'filed as they are'],
                  [
                    'files',
                    'unpacked',
                    'Files in the archives are filed here, unless a line above takes them or leaves them out.',
                  ],
                  ['both', 'unpacked, and filed as well'],
                ]}
              />
              {unpack !== 'archive' && (
                <div className="mt-2">
                  <Tick
                    label="keep the archive’s own folders"
                    checked={p['inner folders'] !== 'drop'}
                    onChange={(on) => set({ 'inner folders': on ? undefined : 'drop' })}
                  />
                </div>
              )}
              <p className="mt-1 text-sm text-ink-3">
                zip, tar, gzip, bzip2, xz, zstd, 7z and rar. An encrypted archive is held for you, unless a password of
                the correspondent opens it.
              </p>
            </Blank>
          </>
        )}
      </p>
    </>
  )
}

function EntryLines({
  entry: e,
  place,
  known,
  problems,
  example,
  cabinet,
  onChange,
  onMove,
}: {
  entry: Entry
  place: string
  known: Known
  problems: Problems
  example?: string
  cabinet: string
  onChange: (e: Entry | null) => void
  onMove?: () => void
}) {
  const kinds = known.language?.kinds ?? []
  const tests = e.take === 'everything' ? [] : (e.take ?? e.leave ?? [])
  const asList = Array.isArray(tests) ? tests : [tests]
  const key = e.take !== undefined ? 'take' : 'leave'
  const setTest = (i: number, t: ItemTest | null) => {
    const next = t ? asList.map((x, k) => (k === i ? t : x)) : asList.filter((_, k) => k !== i)
    onChange(next.length ? { ...e, [key]: next } : null)
  }
  const archives =
    e.take === 'everything' ||
    asList.some(
      (t) =>
        list(t.kind).includes('archive') || /zip|7z|rar|tar|gz/.test([...list(t.extension), ...list(t.name)].join(' ')),
    )
  const blanks =
    e.take === 'everything' ? (
      <Blank label="Every attachment" text="every attachment">
        <button className="add" onClick={() => onChange({ ...e, take: [{ kind: 'pdf' }] })}>
          Only some kinds instead
        </button>
      </Blank>
    ) : (
      asList.map((t, i) => (
        <span key={i}>
          {i > 0 && ' and '}
          <Blank
            label={itemWords(t, kinds)}
            text={itemWords(t, kinds)}
            wrong={about(problems, `${place}.${key}[${i}]`)}
          >
            <ItemEditor test={t} known={known} onChange={(x) => setTest(i, x)} />
            <p className="mt-3 flex flex-wrap gap-2 border-t border-line pt-3">
              <button className="add" onClick={() => onChange({ ...e, [key]: [...asList, { name: '*.csv' }] })}>
                + and others
              </button>
              {key === 'take' && (
                <button className="add" onClick={() => onChange({ ...e, take: 'everything' })}>
                  every attachment instead
                </button>
              )}
              <button className="add !text-seal" onClick={() => setTest(i, null)}>
                Take out
              </button>
            </p>
          </Blank>
        </span>
      ))
    )
  const up = onMove && (
    <button className="add !font-normal !text-ink-3" onClick={onMove}>
      Move up
    </button>
  )
  if (key === 'leave')
    return (
      <p>
        leave out {blanks} {up}
      </p>
    )
  return (
    <div className="mb-1">
      <Told texts={about(problems, place, false)} />
      <p>{blanks}, in</p>
      <PlaceLines
        place={e}
        at={place}
        known={known}
        problems={problems}
        example={example}
        cabinet={cabinet}
        archives={archives}
        onChange={(p) => onChange({ ...(e.take !== undefined ? { take: e.take } : {}), ...p })}
      />
      <p className="leading-normal">
        <button className="add !font-normal !text-ink-3" onClick={() => onChange(null)}>
          Remove this destination
        </button>{' '}
        {up}
      </p>
    </div>
  )
}
