import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import type { ReactNode } from 'react'

import type { Schemas } from '../api/client'
import { Blank, Tick } from '../ui/basics'
import { Afterwards } from './afterwards'
import { ItemEditor, itemWords, type Known, LeafLine, OneOf, joins, orList, PatternBlank, TextList } from './blanks'
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
      const text = p.at ? t`at character ${p.at} ${p.text.replace(/^in the pattern .*, column \d+: /, '')}` : p.text
      return t`${text.charAt(0).toUpperCase()}${text.slice(1)}.${p.meant ? ` Did you mean “${p.meant}”?` : ''}`
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
  texts.map((text) => (
    <p key={text} role="alert" className="text-sm leading-normal text-seal">
      {text}
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
    <section aria-label={t`The rule`} className="rounded-xl border border-line bg-sheet-2 px-5 py-4">
      <Step title={t`Look`}>
        <Trans>
          in{' '}
          <Blank
            label={t`Mailboxes`}
            text={mailboxes[0] === 'all' ? t`all mailboxes` : orList(mailboxes, 'and')}
            wrong={about(problems, 'look.mailboxes')}
          >
            <p className="mb-2 text-sm font-semibold">Which mailboxes</p>
            <Tick
              label={t`all mailboxes`}
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
            label={t`Folders`}
            text={
              every
                ? t`every folder`
                : (folders.length ? orList(folders, 'and') : t`Inbox`) +
                  (d.look.subfolders ? t` and what is in it` : '')
            }
          >
            <Tick
              label={t`every folder, but for trash, junk, drafts, sent and what others share`}
              checked={every}
              onChange={(on) =>
                set({ look: on ? { mailboxes: d.look.mailboxes, folders: 'all' } : { mailboxes: d.look.mailboxes } })
              }
            />
            {!every && (
              <Tick
                label={t`also the folders within`}
                checked={!!d.look.subfolders}
                onChange={(on) => set({ look: { ...d.look, subfolders: on || undefined } })}
              />
            )}
            <TextList
              label={t`Another mail folder, by its path`}
              values={every ? [] : folders}
              offered={known.folders.map((value) => ({ value }))}
              about={t`Folders:`}
              onChange={(f) => set({ look: { ...d.look, folders: f.length ? f : undefined } })}
            />
            <p className="mt-2 text-sm text-ink-3">If you choose nothing, the inbox.</p>
          </Blank>
        </Trans>
      </Step>
      <Step title={t`for messages`}>
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
            <Blank label={t`Every message`} text="every message" wrong={about(problems, 'match', false)}>
              <p>
                <Trans>The rule applies to every message in these folders.</Trans>
              </p>
              <button className="add mt-2" onClick={() => set({ match: fromRoot({ group: 'all', items: [fresh()] }) })}>
                <Trans>Add a condition instead</Trans>
              </button>
            </Blank>
          </p>
        )}
        {unless.map((n, i) => (
          <div key={i}>
            {i === 0 ? t`unless ` : t`or `}
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
                  <Trans>and…</Trans>
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
                + {root.group === 'all' ? t`and` : t`or`}…
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
                <Trans>+ a group…</Trans>
              </button>{' '}
            </>
          )}
          <button className="add" onClick={() => set({ unless: [...(d.unless ?? []), { subject: { begins: [] } }] })}>
            <Trans>+ unless…</Trans>
          </button>{' '}
          {root && root.items.length <= 1 && (
            <button className="add" onClick={() => set({ match: 'every message' })}>
              <Trans>every message instead</Trans>
            </button>
          )}
        </p>
      </Step>
      <Step title={t`File`}>
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
            <p>
              <Trans>the rest, in</Trans>
            </p>
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
                <Trans>Leave the rest instead</Trans>
              </button>
            </p>
          </div>
        ) : (
          <p>
            <Trans>
              and the rest{' '}
              <Blank label={t`The rest`} text={t`is left`} wrong={about(problems, 'rest')}>
                <p>Attachments that no line above takes stay in the mailbox.</p>
                <button className="add mt-2" onClick={() => set({ rest: { folder: t`Other/<received year>` } })}>
                  File the rest, too
                </button>
              </Blank>
            </Trans>
          </p>
        )}
        <Copies
          copies={d.copies ?? []}
          problems={problems}
          onChange={(copies) => set({ copies: copies.length ? copies : undefined })}
        />
        <p>
          <Trans>
            in the cabinet{' '}
            <Blank label={t`Cabinet`} text={d.cabinet} wrong={about(problems, 'cabinet')}>
              <p className="mb-1 text-sm font-semibold">Which cabinet</p>
              <OneOf
                name="cabinet"
                value={d.cabinet}
                choices={known.cabinets.map((c) => [c, c])}
                onChange={(cabinet) => set({ cabinet })}
              />
            </Blank>
          </Trans>
        </p>
        <p className="leading-normal">
          <button
            className="add"
            onClick={() =>
              set({ attachments: [...entries, { take: [{ kind: 'pdf' }], folder: t`Mail/<received year>` }] })
            }
          >
            <Trans>+ add a destination</Trans>
          </button>{' '}
          <button
            className="add"
            onClick={() => set({ attachments: [{ leave: [{ inline: true, smaller: '20 KB' }] }, ...entries] })}
          >
            <Trans>+ leave out…</Trans>
          </button>
        </p>
        {d['leave out'] || d.hold ? (
          <>
            <Unasked words={d['leave out']} onChange={(words) => set({ 'leave out': words })} />
            <Cautions words={d.hold} left={d['leave out']} onChange={(hold) => set({ hold })} />
          </>
        ) : (
          <p className="mt-2 text-sm leading-normal text-ink-3">
            <Trans>
              With the{' '}
              <Blank label={t`The usual safeguards`} text={t`usual safeguards`}>
                <p className="mb-1 text-sm font-semibold">Always left out</p>
                <UnaskedTicks onChange={(words) => set({ 'leave out': words })} />
                <p className="mt-3 mb-1 text-sm font-semibold">Held for your decision</p>
                <CautionTicks onChange={(hold) => set({ hold })} />
              </Blank>
              .
            </Trans>
          </p>
        )}
      </Step>
      <Step title={t`Read from each file`}>
        <Told texts={about(problems, 'values', false)} />
        <Values
          values={values}
          read={offered.read ?? []}
          rule={offered.rule}
          wrong={(place) => about(problems, place)}
          onChange={(values) => set({ values })}
        />
        <p className="mt-1 text-sm leading-normal text-ink-3">
          {d['full text']
            ? t`Searches of the register find the words inside of these files.`
            : t`Searches of the register do not find the words inside of these files.`}{' '}
          <Blank label={t`Words inside: change`} text={t`change`}>
            <Tick
              label={t`searches find the words inside of these files`}
              checked={d['full text'] === true}
              onChange={(on) => set({ 'full text': on || undefined })}
            />
            <p className="mt-1 text-sm text-ink-3">
              <Trans>
                Such as inside:&quot;oily water&quot;. Ink Tray also reads files that are filed already. Everyone who
                may see a file can find its words.
              </Trans>
            </p>
          </Blank>
        </p>
      </Step>
      <Step title={t`Afterwards`}>
        <Told texts={about(problems, 'afterwards', false)} />
        <Afterwards
          steps={steps}
          known={known}
          wrong={(place) => about(problems, place)}
          onChange={(s) => set({ afterwards: s.length ? s : undefined })}
        />
      </Step>
      <Step title={t`Then`}>
        <Trans>
          later rules{' '}
          <Blank label={t`Later rules`} text={d.then === 'stop' ? t`do not see` : t`see`}>
            <Tick
              label={t`later rules see the message too`}
              checked={d.then !== 'stop'}
              onChange={(on) => set({ then: on ? undefined : 'stop' })}
            />
          </Blank>{' '}
          the message.
        </Trans>
      </Step>
    </section>
  )
}

const defaults: [string, string][] = [
  ['signature pictures', 'inline pictures under 20 KB'],
  ['detached signatures', t`detached signatures`],
  ['active files', t`active files`],
  ['forwarded messages', t`forwarded messages themselves`],
  ['delivery reports', t`delivery reports`],
]

function Unasked({ words, onChange }: { words?: string[]; onChange: (words: string[] | undefined) => void }) {
  const on = words ?? defaults.map(([k]) => k)
  const text = on.length
    ? orList(
        defaults.filter(([k]) => on.includes(k)).map(([, label]) => label),
        'and',
      )
    : t`nothing`
  return (
    <p className="mt-2 text-sm leading-normal text-ink-3">
      <Trans>
        Always left out: {text}.{' '}
        <Blank label={t`Always left out: change`} text={t`change`}>
          <UnaskedTicks words={words} onChange={onChange} />
        </Blank>
      </Trans>
    </p>
  )
}

function UnaskedTicks({ words, onChange }: { words?: string[]; onChange: (words: string[] | undefined) => void }) {
  const on = words ?? defaults.map(([k]) => k)
  return defaults.map(([k, label]) => (
    <Tick
      key={k}
      label={label}
      checked={on.includes(k)}
      onChange={(yes) => {
        const next = defaults.map(([x]) => x).filter((x) => (x === k ? yes : on.includes(x)))
        onChange(next.length === defaults.length ? undefined : next)
      }}
    />
  ))
}

const cautions: [string, string][] = [
  ['disguised files', t`files that are not what their name says`],
  ['macros', t`office files with macros`],
  ['locked archives', t`archives with a password`],
  ['active files', t`active files`],
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
  const told = cautions.filter(([k]) => on.includes(k) && !(k === 'active files' && out)).map(([, label]) => label)
  return (
    <p className="mt-1 text-sm leading-normal text-ink-3">
      <Trans>
        Held for your decision: {told.length ? orList(told, 'and') : t`nothing`}.{' '}
        <Blank label={t`Held for your decision: change`} text={t`change`}>
          <CautionTicks words={words} onChange={onChange} />
        </Blank>
      </Trans>
    </p>
  )
}

function CautionTicks({ words, onChange }: { words?: string[]; onChange: (words: string[] | undefined) => void }) {
  const on = words ?? cautions.map(([k]) => k)
  return cautions.map(([k, label]) => (
    <Tick
      key={k}
      label={label}
      checked={on.includes(k)}
      onChange={(yes) => {
        const next = cautions.map(([x]) => x).filter((x) => (x === k ? yes : on.includes(x)))
        onChange(next.length === cautions.length ? undefined : next)
      }}
    />
  ))
}

const forms: [string, string, string][] = [
  ['eml', 'EML', t`the message itself, whole`],
  ['pdf', 'PDF', t`with its pictures; if it cannot be drawn, an EML is added`],
  ['html', t`web page`, t`that loads nothing`],
  ['text', t`text`, ''],
]

function Copies({ copies, problems, onChange }: { copies: Copy[]; problems: Problems; onChange: (c: Copy[]) => void }) {
  const folder = copies.find((c) => c.folder)?.folder
  const text = copies.length
    ? `${orList(
        copies.map((c) => forms.find(([f]) => f === c.as)?.[1] ?? c.as),
        'and',
      )}${folder ? t` in ${folder}` : ''}`
    : t`none`
  return (
    <p>
      <Trans>
        copies of the message:{' '}
        <Blank label={t`Copies of the message`} text={text} wrong={about(problems, 'copies')}>
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
                label={t`in a folder of their own`}
                checked={!!folder}
                onChange={(on) =>
                  onChange(copies.map((c) => without({ ...c, folder: on ? t`Letters/<received year>` : undefined })))
                }
              />
              {folder && (
                <label className="mt-1 block text-sm font-semibold">
                  <Trans>
                    Folder
                    <input
                      className="field mt-1 font-normal"
                      value={folder}
                      onChange={(e) => onChange(copies.map((c) => ({ ...c, folder: e.target.value })))}
                    />
                  </Trans>
                </label>
              )}
            </div>
          )}
        </Blank>
      </Trans>
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
      {n.group === 'none' && t`none of: `}
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
          + {n.group === 'all' ? t`and` : n.group === 'any' ? t`or` : t`nor`}…
        </button>{' '}
        {n.group !== 'none' && (
          <button className="add !font-normal !text-ink-3" onClick={() => onChange({ ...n, group: 'none' })}>
            <Trans>none of these instead</Trans>
          </button>
        )}
        {n.group === 'none' && (
          <button className="add !font-normal !text-ink-3" onClick={() => onChange({ ...n, group: 'any' })}>
            <Trans>any of these instead</Trans>
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
            t`nor`
          ) : (
            <button
              className="add !text-base !font-normal !text-ink underline decoration-dotted"
              title={t`Change between and and or`}
              aria-label={t`${joins[word]}: change to ${word === 'and' ? t`or` : t`and`}`}
              onClick={() => onChange({ ...group, group: group.group === 'all' ? 'any' : 'all' })}
            >
              {joins[word]}
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
  number: t`add a number`,
  keep: t`keep the file that is there`,
  replace: t`replace the file that is there`,
}
const unpackWords: Record<string, string> = {
  archive: t`filed as they are`,
  files: t`unpacked`,
  both: t`unpacked, and filed as well`,
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
          label={t`Folder`}
          value={p.folder ?? ''}
          onChange={(folder) => set({ folder })}
          wrong={about(problems, `${at}.folder`)}
          known={known}
          example={example?.split('/').slice(0, -1).join('/')}
        />
        {(known.cabinets.length > 1 || p.cabinet) && (
          <Trans>
            {' '}
            of{' '}
            <Blank
              label={t`Cabinet of this place`}
              text={p.cabinet ?? cabinet}
              wrong={about(problems, `${at}.cabinet`)}
            >
              <OneOf
                name={`cabinet ${at}`}
                value={p.cabinet ?? cabinet}
                choices={known.cabinets.map((c) => [c, c])}
                onChange={(c) => set({ cabinet: c === cabinet ? undefined : c })}
              />
            </Blank>
          </Trans>
        )}
        {p['own folder'] ? (
          <>
            ,{' '}
            <Blank label={t`A folder for each message`} text={t`each message in a folder of its own`}>
              <p className="text-sm text-ink-2">
                <Trans>It is called by date and subject: 2026-05-12 Berth plan 7 k3x9q2mfa7bd.</Trans>
              </p>
              <button className="add mt-2" onClick={() => set({ 'own folder': undefined })}>
                <Trans>All messages together instead</Trans>
              </button>
            </Blank>
          </>
        ) : (
          <>
            {' '}
            <button className="add !font-normal !text-ink-3" onClick={() => set({ 'own folder': true })}>
              <Trans>a folder for each message…</Trans>
            </button>
          </>
        )}
      </p>
      <p>
        <Trans>
          named{' '}
          <PatternBlank
            names
            label={t`File name`}
            value={p.name ?? '<file.stem>'}
            onChange={(name) => set({ name: name === '<file.stem>' ? undefined : name })}
            wrong={about(problems, `${at}.name`)}
            known={known}
            example={example?.split('/').at(-1)}
          />
          ; if the name is taken:{' '}
          <Blank
            label={t`A name that is taken`}
            text={takenWords[p['if name exists'] ?? 'number']}
            wrong={about(problems, `${at}.if name exists`)}
          >
            <OneOf
              name={`taken ${at}`}
              value={p['if name exists'] ?? 'number'}
              onChange={(v) => set({ 'if name exists': v === 'number' ? undefined : v })}
              choices={[
                ['number', t`add a number`, t`The new one becomes plan (2).pdf.`],
                [
                  'replace',
                  t`replace the file that is there`,
                  t`For a report that comes again and again. A later message replaces a file that Ink Tray filed and nobody changed. The earlier file is kept aside.`,
                ],
                ['keep', t`keep the file that is there`, t`The new one is not filed.`],
              ]}
            />
            <p className="mt-1 text-sm text-ink-3">The same content is never filed twice under one name.</p>
          </Blank>
          {(archives || p.unpack) && (
            <Trans>
              ; archives are{' '}
              <Blank
                label={t`Archives`}
                text={
                  unpackWords[unpack] +
                  (unpack !== 'archive' && p['inner folders'] === 'drop' ? t`, without their folders` : '')
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
                    ['archive', t`filed as they are`],
                    [
                      'files',
                      t`unpacked`,
                      t`Files in the archives are filed here, unless a line above takes them or leaves them out.`,
                    ],
                    ['both', t`unpacked, and filed as well`],
                  ]}
                />
                {unpack !== 'archive' && (
                  <div className="mt-2">
                    <Tick
                      label={t`keep the archive’s own folders`}
                      checked={p['inner folders'] !== 'drop'}
                      onChange={(on) => set({ 'inner folders': on ? undefined : 'drop' })}
                    />
                  </div>
                )}
                <p className="mt-1 text-sm text-ink-3">
                  zip, tar, gzip, bzip2, xz, zstd, 7z and rar. An encrypted archive is held for you, unless a password
                  of the correspondent opens it.
                </p>
              </Blank>
            </Trans>
          )}
        </Trans>
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
  const setTest = (i: number, changed: ItemTest | null) => {
    const next = changed ? asList.map((x, k) => (k === i ? changed : x)) : asList.filter((_, k) => k !== i)
    onChange(next.length ? { ...e, [key]: next } : null)
  }
  const archives =
    e.take === 'everything' ||
    asList.some(
      (test) =>
        list(test.kind).includes('archive') ||
        /zip|7z|rar|tar|gz/.test([...list(test.extension), ...list(test.name)].join(' ')),
    )
  const blanks =
    e.take === 'everything' ? (
      <Blank label={t`Every attachment`} text={t`every attachment`}>
        <button className="add" onClick={() => onChange({ ...e, take: [{ kind: 'pdf' }] })}>
          <Trans>Only some kinds instead</Trans>
        </button>
      </Blank>
    ) : (
      asList.map((test, i) => (
        <span key={i}>
          {i > 0 && t` and `}
          <Blank
            label={itemWords(test, kinds)}
            text={itemWords(test, kinds)}
            wrong={about(problems, `${place}.${key}[${i}]`)}
          >
            <ItemEditor test={test} known={known} onChange={(x) => setTest(i, x)} />
            <p className="mt-3 flex flex-wrap gap-2 border-t border-line pt-3">
              <button className="add" onClick={() => onChange({ ...e, [key]: [...asList, { name: '*.csv' }] })}>
                <Trans>+ and others</Trans>
              </button>
              {key === 'take' && (
                <button className="add" onClick={() => onChange({ ...e, take: 'everything' })}>
                  <Trans>every attachment instead</Trans>
                </button>
              )}
              <button className="add !text-seal" onClick={() => setTest(i, null)}>
                <Trans>Take out</Trans>
              </button>
            </p>
          </Blank>
        </span>
      ))
    )
  const up = onMove && (
    <button className="add !font-normal !text-ink-3" onClick={onMove}>
      <Trans>Move up</Trans>
    </button>
  )
  if (key === 'leave')
    return (
      <p>
        <Trans>
          leave out {blanks} {up}
        </Trans>
      </p>
    )
  return (
    <div className="mb-1">
      <Told texts={about(problems, place, false)} />
      <p>
        <Trans>{blanks}, in</Trans>
      </p>
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
          <Trans>Remove this destination</Trans>
        </button>{' '}
        {up}
      </p>
    </div>
  )
}
