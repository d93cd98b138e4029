import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Link } from 'react-router'

import { api, ifMatch, type Schemas, value } from '../api/client'
import { keys, queries } from '../api/queries'
import { OneOf } from '../letter/blanks'
import { Button, Field, Listing, Pick, Sheet, Wrong } from '../ui/basics'
import { End, placed, useSettings } from '../ui/form'
import { many, size, when } from '../ui/format'
import { Remover } from '../ui/remover'

/** Registers kept as files, verification, words inside of files, and erasing. */
export function RegisterCare() {
  return (
    <>
      <RegisterFiles />
      <Verification />
      <WordsInside />
      <Erasing />
    </>
  )
}

/** How far the words inside of files are known. */
function WordsInside() {
  const query = useQuery({ ...queries.words, refetchInterval: (q) => (q.state.data?.waiting ? 3_000 : 60_000) })
  return (
    <section className="mb-10 max-w-4xl" aria-label="Words inside of files">
      <h2 className="mb-2">Words inside of files</h2>
      <Listing
        query={query}
        empty={(w) =>
          w.rules.length === 0 &&
          'Searches can find words inside files, such as inside:"oily water". Switch it on for a rule on its page, under “Read from each file”.'
        }
      >
        {(w) => (
          <>
            <p className="text-ink-2">
              Searches with inside: find the words in the files of {w.rules.length === 1 ? 'this rule' : 'these rules'}:{' '}
              {w.rules.join(', ')}.
            </p>
            {w.files !== undefined && (
              <p role="status" className="mt-1">
                {many(w.files, 'file')} read
                {!!w.waiting && `, ${many(w.waiting, 'file')} to be read`}
                {!!w.unread && `, of which ${w.unread.toLocaleString()} hold no text that can be read`};{' '}
                {size(w.size ?? 0)}.
              </p>
            )}
            {w.problems.map((p) => (
              <p key={p.problem} className="text-sm text-ink-3">
                {many(p.files, 'file')}: {p.problem}
              </p>
            ))}
          </>
        )}
      </Listing>
    </section>
  )
}

function RegisterFiles() {
  const client = useQueryClient()
  const [editing, setEditing] = useState<Schemas['RegisterFile'] | 'new' | null>(null)
  const query = useQuery(queries.registerFiles)
  const again = { onSuccess: () => client.invalidateQueries({ queryKey: keys.registerFiles }) }
  const write = useMutation({
    mutationFn: (id: string) => value(api.POST('/api/v1/register-files/{id}/write', { params: { path: { id } } })),
    ...again,
  })
  return (
    <section className="mb-10 max-w-4xl">
      <div className="mb-2 flex items-center justify-between gap-3">
        <h2>The register as a file</h2>
        <Button onClick={() => setEditing('new')}>Keep the register as a file</Button>
      </div>
      <Wrong error={write.error} />
      <Listing
        query={query}
        empty={(f) =>
          f.length === 0 &&
          'Ink Tray can keep the register as a file in a cabinet. Colleagues open it in a spreadsheet program. It is always up to date.'
        }
      >
        {(all) =>
          all.map((f) => (
            <div key={f.id} className="flex flex-wrap items-start justify-between gap-3 border-t border-line py-3">
              <div className="min-w-0 flex-1 basis-72">
                <p>
                  <span className="font-semibold">{f.name}</span>{' '}
                  <span className="text-ink-2">
                    in {f.cabinet}, {f.format.toUpperCase()}
                    {f.rule ? `, only the rule “${f.rule}”` : f.of_folder ? `, only the folder ${f.of_folder}` : ''}
                  </span>
                </p>
                {f.years.map((y) => (
                  <p key={y.year} className="text-sm text-ink-3 [overflow-wrap:anywhere]">
                    {y.path}: {many(y.rows, 'line')}
                    {y.written_at && `, written ${when(y.written_at)}`}
                  </p>
                ))}
                <p className="text-sm text-ink-3">Holds what {f.rights} may see.</p>
                {f.problem && (
                  <p className="text-sm text-seal">
                    {f.problem.replace(/\.$/, '')}. {f.advice}
                  </p>
                )}
              </div>
              <div className="flex items-center gap-2">
                <Button onClick={() => write.mutate(f.id)} disabled={write.isPending}>
                  Write now
                </Button>
                <Button onClick={() => setEditing(f)}>Change</Button>
                <Remover
                  name={f.name}
                  lost="Ink Tray no longer writes this file. The files that were written stay."
                  remove={() => value(api.DELETE('/api/v1/register-files/{id}', { params: { path: { id: f.id } } }))}
                />
              </div>
            </div>
          ))
        }
      </Listing>
      {editing && <RegisterFileSheet f={editing === 'new' ? null : editing} onClose={() => setEditing(null)} />}
    </section>
  )
}

function RegisterFileSheet({ f, onClose }: { f: Schemas['RegisterFile'] | null; onClose: () => void }) {
  const rules = useQuery(queries.rules)
  const cabinets = useQuery(queries.cabinets)
  const values = {
    name: f?.name ?? 'Register',
    cabinet: f?.cabinet ?? '',
    folder: f?.folder ?? '',
    format: f?.format ?? ('xlsx' as const),
    per: f?.per ?? ('filing' as const),
    scope: f?.rule ? 'rule' : f?.of_folder ? 'folder' : 'all',
    rule: f?.rule ?? '',
    of_folder: f?.of_folder ?? '',
  }
  const cabinetOf = (s: typeof values) => s.cabinet || cabinets.data?.[0]?.name || ''
  const ruleOf = (s: typeof values) => s.rule || rules.data?.[0]?.name || ''
  const body = ({ scope, ...s }: typeof values) => ({
    ...s,
    cabinet: cabinetOf({ scope, ...s }),
    rule: scope === 'rule' ? ruleOf({ scope, ...s }) : undefined,
    of_folder: scope === 'folder' ? s.of_folder : undefined,
    columns: f?.columns ?? [],
  })
  const form = useSettings<typeof values, unknown>({
    values,
    revision: f?.revision,
    save: (s, revision) =>
      value<unknown>(
        f
          ? api.PUT('/api/v1/register-files/{id}', {
              params: { path: { id: f.id }, header: ifMatch(revision) },
              body: body(s),
            })
          : api.POST('/api/v1/register-files', { body: body(s) }),
      ),
    saved: onClose,
  })
  const { bind, held, now } = form
  return (
    <Sheet title={f ? `The register “${f.name}”` : 'Keep the register as a file'} open onClose={onClose}>
      <form onSubmit={form.submit}>
        <Field
          label="Name of the file"
          required
          hint={`One file for each year: ${now.name || 'Register'} ${new Date().getFullYear()}.${now.format}`}
          {...bind('name')}
        />
        <div className="grid gap-x-3 sm:grid-cols-2">
          <Pick
            label="Cabinet"
            choices={(cabinets.data ?? []).map((c) => [c.name, c.name])}
            {...held('cabinet')}
            value={cabinetOf(now)}
          />
          <Field label="Folder" hint="Leave empty for the top of the cabinet." {...bind('folder')} />
        </div>
        <fieldset className="mb-4">
          <legend className="mb-1 text-sm font-semibold">Form</legend>
          <OneOf
            name="file-format"
            value={now.format}
            onChange={(v) => form.set('format', v as 'csv')}
            choices={[
              ['xlsx', 'Workbook (XLSX)'],
              ['csv', 'Plain table (CSV)'],
            ]}
          />
        </fieldset>
        <fieldset className="mb-4">
          <legend className="mb-1 text-sm font-semibold">One line for</legend>
          <OneOf
            name="file-per"
            value={now.per}
            onChange={(v) => form.set('per', v as 'message')}
            choices={[
              ['filing', 'each file'],
              ['message', 'each message, with links to all its files'],
            ]}
          />
        </fieldset>
        <Pick
          label="What it holds"
          choices={[
            ['all', 'all filings'],
            ['rule', 'the filings of one rule'],
            ['folder', 'the filings of one folder'],
          ]}
          {...held('scope')}
        />
        {now.scope === 'rule' && (
          <Pick
            label="Rule"
            choices={(rules.data ?? []).map((r) => [r.name, r.name])}
            {...held('rule')}
            value={ruleOf(now)}
          />
        )}
        {now.scope === 'folder' && (
          <Field
            label="Which folder of the cabinet"
            required
            hint="with its subfolders, such as Gauges"
            {...bind('of_folder')}
          />
        )}
        <End
          of={form}
          label={f ? 'Save' : 'Add file'}
          disabled={!cabinetOf(now)}
          onClose={onClose}
          mine={body(now)}
          look={() => value(api.GET('/api/v1/register-files')).then((l) => l.find((x) => x.id === f?.id))}
        />
      </form>
    </Sheet>
  )
}

function Verification() {
  const [planning, setPlanning] = useState(false)
  const client = useQueryClient()
  const query = useQuery(queries.verification)
  const all = useMutation({
    mutationFn: () => value(api.POST('/api/v1/register/verification', { body: {} })),
    onSuccess: () => client.invalidateQueries({ queryKey: keys.passes }),
  })
  return (
    <section className="mb-10 max-w-4xl">
      <div className="mb-2 flex flex-wrap items-center justify-between gap-3">
        <h2>Verification</h2>
        <span className="flex gap-2">
          <Button onClick={() => all.mutate()} disabled={all.isPending || query.data?.last?.state === 'running'}>
            Verify all now
          </Button>
          <Button onClick={() => setPlanning(true)}>Change verification</Button>
        </span>
      </div>
      <Wrong error={all.error} />
      <Listing query={query}>
        {(v) => (
          <div className="border-t border-line py-3">
            <p>
              {v.plan.every_days
                ? `Ink Tray reads each file once in ${many(v.plan.every_days, 'day')}, to see that it is still there and unchanged${v.plan.from_time ? `; between ${v.plan.from_time} and ${v.plan.to_time}` : ''}${v.plan.mb_per_second ? `; at most ${v.plan.mb_per_second} MB a second` : ''}.`
                : 'Ink Tray verifies files only when someone asks.'}
            </p>
            <p className="text-sm text-ink-2">
              {many(v.verified, 'file')} verified so far{v.due ? `, ${v.due.toLocaleString()} due` : ''};{' '}
              <Link className="text-pen underline" to="/register?text=state:missing">
                {v.missing} missing
              </Link>
              ,{' '}
              <Link className="text-pen underline" to="/register?text=state:changed">
                {v.changed} changed
              </Link>
              .
            </p>
            {v.last && (
              <p className="text-sm text-ink-3">
                Last:{' '}
                <Link className="text-pen underline" to={`/history/${v.last.id}`}>
                  {when(v.last.started_at)}
                </Link>
                , {v.last.looked.toLocaleString()} of {many(v.last.total, 'file')}, {v.last.state}
                {v.last.note && `: ${v.last.note}`}
              </p>
            )}
          </div>
        )}
      </Listing>
      {planning && query.data && (
        <PlanSheet plan={query.data.plan} revision={query.data.revision} onClose={() => setPlanning(false)} />
      )}
    </section>
  )
}

function PlanSheet({
  plan,
  revision,
  onClose,
}: {
  plan: Schemas['VerificationPlan']
  revision: number
  onClose: () => void
}) {
  const values = {
    every_days: plan.every_days,
    from_time: plan.from_time ?? '',
    to_time: plan.to_time ?? '',
    mb_per_second: plan.mb_per_second ?? 0,
  }
  const form = useSettings<typeof values, unknown>({
    values,
    revision,
    save: (body, on) => value(api.PUT('/api/v1/register/verification', { params: { header: ifMatch(on) }, body })),
    saved: onClose,
    names: { from: 'from_time', to: 'to_time' },
  })
  const { bind } = form
  return (
    <Sheet title="When files are verified" open onClose={onClose}>
      <form onSubmit={form.submit}>
        <Field
          label="Verify each file once in … days"
          type="number"
          min={0}
          max={3650}
          required
          hint="0: only when someone asks"
          {...bind('every_days', { valueAsNumber: true })}
        />
        <div className="grid grid-cols-2 gap-3">
          <Field label="From" type="time" hint="leave empty for all day" {...bind('from_time')} />
          <Field label="Until" type="time" {...bind('to_time')} />
        </div>
        <Field
          label="Megabytes per second, at most"
          type="number"
          min={0}
          required
          hint="0 for no limit"
          {...bind('mb_per_second', { valueAsNumber: true })}
        />
        <End
          of={form}
          label="Save"
          onClose={onClose}
          mine={form.now}
          look={() =>
            value(api.GET('/api/v1/register/verification')).then((v) => ({ ...v.plan, revision: v.revision }))
          }
        />
      </form>
    </Sheet>
  )
}

/** The file in which Ink Tray keeps everything that it knows. */
export function Records() {
  const check = useMutation({
    mutationFn: (full: boolean) => value(api.POST('/api/v1/records/check', { body: { full } })),
  })
  const ready = useQuery(queries.ready)
  const people = useQuery({ ...queries.people, retry: false }) // only administrators see them
  const [changing, setChanging] = useState(false)
  const change = useMutation({ mutationFn: () => value(api.POST('/api/v1/records/key')) })
  const close = () => {
    setChanging(false)
    change.reset()
  }
  const found = check.data
  return (
    <section className="mb-10 max-w-4xl">
      <div className="mb-2 flex flex-wrap items-center justify-between gap-3">
        <h2>Ink Tray’s own records</h2>
        <span className="flex gap-2">
          <Button onClick={() => check.mutate(false)} disabled={check.isPending}>
            Check now
          </Button>
          <Button onClick={() => check.mutate(true)} disabled={check.isPending}>
            Check everything in it
          </Button>
          {people.data && <Button onClick={() => setChanging(true)}>Change the key…</Button>}
        </span>
      </div>
      <Wrong error={check.error} />
      <div className="border-t border-line py-3">
        <p className="text-ink-2">
          Ink Tray keeps rules, decisions and the register in one file. It checks this file at every start. A full check
          also reads every index and takes longer.
        </p>
        {ready.data?.children_could &&
          (ready.data.children_could.length === 0 ? (
            <p className="mt-2 text-ink-2">
              Separate processes read the attachments. They cannot open other files, connections or programs.
            </p>
          ) : (
            <p role="alert" className="mt-2 text-seal">
              Separate processes read the attachments. This system does not confine them fully: they could{' '}
              {ready.data.children_could.join(', ')}.
            </p>
          ))}
        {found?.whole && (
          <p role="status" className="mt-2">
            The file <span className="[overflow-wrap:anywhere]">{found.file}</span> is whole.
          </p>
        )}
        {found && !found.whole && (
          <div role="alert" className="mt-2 text-seal">
            <p>
              The file <span className="[overflow-wrap:anywhere]">{found.file}</span> is damaged. {found.advice}
            </p>
            <ul className="list-disc pl-5 text-sm">
              {found.found.map((line) => (
                <li key={line}>{line}</li>
              ))}
            </ul>
          </div>
        )}
      </div>
      {changing && (
        <Sheet title="Change the key of the records?" open onClose={close}>
          {change.data ? (
            <p role="status">
              The records have a new key. {many(change.data.count, 'secret was', 'secrets were')} encrypted again. Make
              a backup now: earlier ones hold the former key.
            </p>
          ) : (
            <p>
              Ink Tray encrypts all passwords again with a new key, while it goes on working. Do this if someone may
              have seen the file secret.key, or from time to time. You need not enter any password again.
            </p>
          )}
          <Wrong error={change.error} />
          <div className="mt-5 flex justify-end gap-2">
            <Button onClick={close}>{change.data ? 'Done' : 'Leave it'}</Button>
            {!change.data && (
              <Button look="main" onClick={() => change.mutate()} disabled={change.isPending}>
                Change the key{' '}
              </Button>
            )}
          </div>
        </Sheet>
      )}
    </section>
  )
}

function Erasing() {
  const [open, setOpen] = useState(false)
  return (
    <section className="mb-10 max-w-4xl">
      <div className="mb-2 flex items-center justify-between gap-3">
        <h2>Erasing a person’s traces</h2>
        <Button onClick={() => setOpen(true)}>Erase a person’s traces…</Button>
      </div>
      <p className="border-t border-line py-3 text-ink-2">
        Use this when someone asks to be forgotten. Ink Tray erases everything that names the person from the register
        and the records. The numbers stay. In Safety, Limits you set after how many days this happens by itself.
      </p>
      {open && <EraseSheet onClose={() => setOpen(false)} />}
    </section>
  )
}

function EraseSheet({ onClose }: { onClose: () => void }) {
  const client = useQueryClient()
  const [address, setAddress] = useState('')
  const [files, setFiles] = useState<'keep' | 'remove'>('keep')
  const look = useMutation({
    mutationFn: () => value(api.POST('/api/v1/erasures/preview', { body: { address, files } })),
  })
  const erase = useMutation({
    mutationFn: () => value(api.POST('/api/v1/erasures', { body: { address, files } })),
    onSuccess: () => client.invalidateQueries(),
  })
  const e = look.data
  return (
    <Sheet title="Erase a person’s traces" open onClose={onClose}>
      {erase.data ? (
        <>
          <p role="status">
            Erased: {many(erase.data.filings, 'line')} of the register, {many(erase.data.messages, 'message')}
            {erase.data.removed ? `, ${many(erase.data.removed, 'file')} removed` : ''}.
          </p>
          <div className="mt-5 flex justify-end">
            <Button onClick={onClose}>Close</Button>
          </div>
        </>
      ) : (
        <form
          onSubmit={(ev) => {
            ev.preventDefault()
            if (e) erase.mutate()
            else look.mutate()
          }}
        >
          <Field
            label="The person’s mail address"
            required
            value={address}
            onChange={(ev) => {
              setAddress(ev.target.value)
              look.reset()
            }}
            placeholder="ansel.quorn@saltmarsh.example"
            error={placed(look.error, ['address']).get('address')}
          />
          {e && (
            <>
              <ul className="mb-3 list-disc pl-5">
                <li>
                  {many(e.filings, 'line')} of the register: sender and subject, {many(e.notes, 'note')}
                </li>
                <li>{many(e.messages, 'message')}: what the records hold of them</li>
                {e.posts > 0 && <li>{many(e.posts, 'mail')} that was sent to the person</li>}
                {e.correspondents > 0 && <li>the address with {many(e.correspondents, 'correspondent')}</li>}
              </ul>
              <p className="mb-3 text-sm text-ink-2">What stays: {e.stays?.join('; ')}.</p>
              {e.files > 0 && (
                <fieldset className="mb-4">
                  <legend className="mb-1 text-sm font-semibold">The {many(e.files, 'file')} that were filed</legend>
                  <OneOf
                    name="erase-files"
                    value={files}
                    onChange={(v) => setFiles(v as 'keep')}
                    choices={[
                      ['keep', 'stay in their folders'],
                      ['remove', 'are removed for good'],
                    ]}
                  />
                </fieldset>
              )}
              <p className="mb-3 font-semibold text-seal">It cannot be undone.</p>
            </>
          )}
          {!placed(look.error, ['address']).size && <Wrong error={look.error ?? erase.error} />}
          <div className="flex justify-end gap-2">
            <Button onClick={onClose}>Keep everything</Button>
            {e ? (
              <Button look="seal" type="submit" disabled={erase.isPending}>
                Erase for good
              </Button>
            ) : (
              <Button look="main" type="submit" disabled={look.isPending}>
                See what would be erased
              </Button>
            )}
          </div>
        </form>
      )}
    </Sheet>
  )
}
