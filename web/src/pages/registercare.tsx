import { plural, t } from '@lingui/core/macro'
import { Plural, Trans } from '@lingui/react/macro'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Link } from 'react-router'

import { api, ifMatch, type Schemas, value } from '../api/client'
import { keys, queries } from '../api/queries'
import { OneOf } from '../letter/blanks'
import { Button, Field, Listing, Pick, Sheet, Wrong } from '../ui/basics'
import { End, placed, useSettings } from '../ui/form'
import { figure, size, when } from '../ui/format'
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
    <section className="mb-10 max-w-4xl" aria-label={t`Words inside of files`}>
      <h2 className="mb-2">
        <Trans>Words inside of files</Trans>
      </h2>
      <Listing
        query={query}
        empty={(w) =>
          w.rules.length === 0 &&
          t`Searches can find words inside files, such as inside:"oily water". Switch it on for a rule on its page, under “Read from each file”.`
        }
      >
        {(w) => (
          <>
            <p className="text-ink-2">
              <Trans>
                Searches with inside: find the words in the files of{' '}
                {w.rules.length === 1 ? t`this rule` : t`these rules`}: {w.rules.join(', ')}.
              </Trans>
            </p>
            {w.files !== undefined && (
              <p role="status" className="mt-1">
                <Trans>
                  <Plural value={w.files} one="# file" other="# files" /> read
                  {!!w.waiting && t`, ${plural(w.waiting, { one: '# file', other: '# files' })} to be read`}
                  {!!w.unread && t`, of which ${figure(w.unread)} hold no text that can be read`}; {size(w.size ?? 0)}.
                </Trans>
              </p>
            )}
            {w.problems.map((p) => (
              <p key={p.problem} className="text-sm text-ink-3">
                {plural(p.files, { one: '# file', other: '# files' })}: {p.problem}
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
        <h2>
          <Trans>The register as a file</Trans>
        </h2>
        <Button onClick={() => setEditing('new')}>
          <Trans>Keep the register as a file</Trans>
        </Button>
      </div>
      <Wrong error={write.error} />
      <Listing
        query={query}
        empty={(f) =>
          f.length === 0 &&
          t`Ink Tray can keep the register as a file in a cabinet. Colleagues open it in a spreadsheet program. It is always up to date.`
        }
      >
        {(all) =>
          all.map((f) => (
            <div key={f.id} className="flex flex-wrap items-start justify-between gap-3 border-t border-line py-3">
              <div className="min-w-0 flex-1 basis-72">
                <p>
                  <span className="font-semibold">{f.name}</span>{' '}
                  <span className="text-ink-2">
                    <Trans>
                      in {f.cabinet}, {f.format.toUpperCase()}
                      {f.rule ? t`, only the rule “${f.rule}”` : f.of_folder ? t`, only the folder ${f.of_folder}` : ''}
                    </Trans>
                  </span>
                </p>
                {f.years.map((y) => (
                  <p key={y.year} className="text-sm text-ink-3 [overflow-wrap:anywhere]">
                    {y.path}: {plural(y.rows, { one: '# line', other: '# lines' })}
                    {y.written_at && t`, written ${when(y.written_at)}`}
                  </p>
                ))}
                <p className="text-sm text-ink-3">
                  <Trans>Holds what {f.rights} may see.</Trans>
                </p>
                {f.problem && (
                  <p className="text-sm text-seal">
                    {f.problem.replace(/\.$/, '')}. {f.advice}
                  </p>
                )}
              </div>
              <div className="flex items-center gap-2">
                <Button onClick={() => write.mutate(f.id)} disabled={write.isPending}>
                  <Trans>Write now</Trans>
                </Button>
                <Button onClick={() => setEditing(f)}>
                  <Trans>Change</Trans>
                </Button>
                <Remover
                  name={f.name}
                  lost={t`Ink Tray no longer writes this file. The files that were written stay.`}
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
    name: f?.name ?? t`Register`,
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
    <Sheet title={f ? t`The register “${f.name}”` : t`Keep the register as a file`} open onClose={onClose}>
      <form onSubmit={form.submit}>
        <Field
          label={t`Name of the file`}
          required
          hint={t`One file for each year: ${now.name || t`Register`} ${new Date().getFullYear()}.${now.format}`}
          {...bind('name')}
        />
        <div className="grid gap-x-3 sm:grid-cols-2">
          <Pick
            label={t`Cabinet`}
            choices={(cabinets.data ?? []).map((c) => [c.name, c.name])}
            {...held('cabinet')}
            value={cabinetOf(now)}
          />
          <Field label={t`Folder`} hint={t`Leave empty for the top of the cabinet.`} {...bind('folder')} />
        </div>
        <fieldset className="mb-4">
          <legend className="mb-1 text-sm font-semibold">
            <Trans>Form</Trans>
          </legend>
          <OneOf
            name="file-format"
            value={now.format}
            onChange={(v) => form.set('format', v as 'csv')}
            choices={[
              ['xlsx', t`Workbook (XLSX)`],
              ['csv', t`Plain table (CSV)`],
            ]}
          />
        </fieldset>
        <fieldset className="mb-4">
          <legend className="mb-1 text-sm font-semibold">
            <Trans>One line for</Trans>
          </legend>
          <OneOf
            name="file-per"
            value={now.per}
            onChange={(v) => form.set('per', v as 'message')}
            choices={[
              ['filing', t`each file`],
              ['message', t`each message, with links to all its files`],
            ]}
          />
        </fieldset>
        <Pick
          label={t`What it holds`}
          choices={[
            ['all', t`all filings`],
            ['rule', t`the filings of one rule`],
            ['folder', t`the filings of one folder`],
          ]}
          {...held('scope')}
        />
        {now.scope === 'rule' && (
          <Pick
            label={t`Rule`}
            choices={(rules.data ?? []).map((r) => [r.name, r.name])}
            {...held('rule')}
            value={ruleOf(now)}
          />
        )}
        {now.scope === 'folder' && (
          <Field
            label={t`Which folder of the cabinet`}
            required
            hint={t`with its subfolders, such as Gauges`}
            {...bind('of_folder')}
          />
        )}
        <End
          of={form}
          label={f ? t`Save` : t`Add file`}
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
        <h2>
          <Trans>Verification</Trans>
        </h2>
        <span className="flex gap-2">
          <Button onClick={() => all.mutate()} disabled={all.isPending || query.data?.last?.state === 'running'}>
            <Trans>Verify all now</Trans>
          </Button>
          <Button onClick={() => setPlanning(true)}>
            <Trans>Change verification</Trans>
          </Button>
        </span>
      </div>
      <Wrong error={all.error} />
      <Listing query={query}>
        {(v) => (
          <div className="border-t border-line py-3">
            <p>
              {v.plan.every_days
                ? t`Ink Tray reads each file once in ${plural(v.plan.every_days, { one: '# day', other: '# days' })}, to see that it is still there and unchanged${v.plan.from_time ? t`; between ${v.plan.from_time} and ${v.plan.to_time ?? ''}` : ''}${v.plan.mb_per_second ? t`; at most ${v.plan.mb_per_second} MB a second` : ''}.`
                : t`Ink Tray verifies files only when someone asks.`}
            </p>
            <p className="text-sm text-ink-2">
              <Trans>
                <Plural value={v.verified} one="# file" other="# files" /> verified so far
                {v.due ? t`, ${figure(v.due)} due` : ''};{' '}
                <Link className="text-pen underline" to="/register?text=state:missing">
                  {v.missing} missing
                </Link>
                ,{' '}
                <Link className="text-pen underline" to="/register?text=state:changed">
                  {v.changed} changed
                </Link>
                .
              </Trans>
            </p>
            {v.last && (
              <p className="text-sm text-ink-3">
                <Trans>
                  Last:{' '}
                  <Link className="text-pen underline" to={`/history/${v.last.id}`}>
                    {when(v.last.started_at)}
                  </Link>
                  , {figure(v.last.looked)} of <Plural value={v.last.total} one="# file" other="# files" />,{' '}
                  {v.last.state}
                  {v.last.note && `: ${v.last.note}`}
                </Trans>
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
    <Sheet title={t`When files are verified`} open onClose={onClose}>
      <form onSubmit={form.submit}>
        <Field
          label={t`Verify each file once in … days`}
          type="number"
          min={0}
          max={3650}
          required
          hint={t`0: only when someone asks`}
          {...bind('every_days', { valueAsNumber: true })}
        />
        <div className="grid grid-cols-2 gap-3">
          <Field label={t`From`} type="time" hint={t`leave empty for all day`} {...bind('from_time')} />
          <Field label={t`Until`} type="time" {...bind('to_time')} />
        </div>
        <Field
          label={t`Megabytes per second, at most`}
          type="number"
          min={0}
          required
          hint={t`0 for no limit`}
          {...bind('mb_per_second', { valueAsNumber: true })}
        />
        <End
          of={form}
          label={t`Save`}
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
        <h2>
          <Trans>Ink Tray’s own records</Trans>
        </h2>
        <span className="flex gap-2">
          <Button onClick={() => check.mutate(false)} disabled={check.isPending}>
            <Trans>Check now</Trans>
          </Button>
          <Button onClick={() => check.mutate(true)} disabled={check.isPending}>
            <Trans>Check everything in it</Trans>
          </Button>
          {people.data && (
            <Button onClick={() => setChanging(true)}>
              <Trans>Change the key…</Trans>
            </Button>
          )}
        </span>
      </div>
      <Wrong error={check.error} />
      <div className="border-t border-line py-3">
        <p className="text-ink-2">
          <Trans>
            Ink Tray keeps rules, decisions and the register in one file. It checks this file at every start. A full
            check also reads every index and takes longer.
          </Trans>
        </p>
        {ready.data?.children_could &&
          (ready.data.children_could.length === 0 ? (
            <p className="mt-2 text-ink-2">
              <Trans>
                Separate processes read the attachments. They cannot open other files, connections or programs.
              </Trans>
            </p>
          ) : (
            <p role="alert" className="mt-2 text-seal">
              <Trans>
                Separate processes read the attachments. This system does not confine them fully: they could{' '}
                {ready.data.children_could.join(', ')}.
              </Trans>
            </p>
          ))}
        {found?.whole && (
          <p role="status" className="mt-2">
            <Trans>
              The file <span className="[overflow-wrap:anywhere]">{found.file}</span> is whole.
            </Trans>
          </p>
        )}
        {found && !found.whole && (
          <div role="alert" className="mt-2 text-seal">
            <p>
              <Trans>
                The file <span className="[overflow-wrap:anywhere]">{found.file}</span> is damaged. {found.advice}
              </Trans>
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
        <Sheet title={t`Change the key of the records?`} open onClose={close}>
          {change.data ? (
            <p role="status">
              <Trans>
                The records have a new key.{' '}
                <Plural value={change.data.count} one="# secret was" other="# secrets were" /> encrypted again. Make a
                backup now: earlier ones hold the former key.
              </Trans>
            </p>
          ) : (
            <p>
              <Trans>
                Ink Tray encrypts all passwords again with a new key, while it goes on working. Do this if someone may
                have seen the file secret.key, or from time to time. You need not enter any password again.
              </Trans>
            </p>
          )}
          <Wrong error={change.error} />
          <div className="mt-5 flex justify-end gap-2">
            <Button onClick={close}>{change.data ? t`Done` : t`Leave it`}</Button>
            {!change.data && (
              <Button look="main" onClick={() => change.mutate()} disabled={change.isPending}>
                <Trans>Change the key </Trans>
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
        <h2>
          <Trans>Erasing a person’s traces</Trans>
        </h2>
        <Button onClick={() => setOpen(true)}>
          <Trans>Erase a person’s traces…</Trans>
        </Button>
      </div>
      <p className="border-t border-line py-3 text-ink-2">
        <Trans>
          Use this when someone asks to be forgotten. Ink Tray erases everything that names the person from the register
          and the records. The numbers stay. In Safety, Limits you set after how many days this happens by itself.
        </Trans>
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
    <Sheet title={t`Erase a person’s traces`} open onClose={onClose}>
      {erase.data ? (
        <>
          <p role="status">
            <Trans>
              Erased: <Plural value={erase.data.filings} one="# line" other="# lines" /> of the register,{' '}
              <Plural value={erase.data.messages} one="# message" other="# messages" />
              {erase.data.removed
                ? t`, ${plural(erase.data.removed, { one: '# file', other: '# files' })} removed`
                : ''}
              .
            </Trans>
          </p>
          <div className="mt-5 flex justify-end">
            <Button onClick={onClose}>
              <Trans>Close</Trans>
            </Button>
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
            label={t`The person’s mail address`}
            required
            value={address}
            onChange={(ev) => {
              setAddress(ev.target.value)
              look.reset()
            }}
            placeholder={t`ansel.quorn@saltmarsh.example`}
            error={placed(look.error, ['address']).get('address')}
          />
          {e && (
            <>
              <ul className="mb-3 list-disc pl-5">
                <li>
                  <Trans>
                    <Plural value={e.filings} one="# line" other="# lines" /> of the register: sender and subject,{' '}
                    <Plural value={e.notes} one="# note" other="# notes" />
                  </Trans>
                </li>
                <li>
                  <Trans>
                    <Plural value={e.messages} one="# message" other="# messages" />: what the records hold of them
                  </Trans>
                </li>
                {e.posts > 0 && (
                  <li>
                    <Trans>
                      <Plural value={e.posts} one="# mail" other="# mails" /> that was sent to the person
                    </Trans>
                  </li>
                )}
                {e.correspondents > 0 && (
                  <li>
                    <Trans>
                      the address with{' '}
                      <Plural value={e.correspondents} one="# correspondent" other="# correspondents" />
                    </Trans>
                  </li>
                )}
              </ul>
              <p className="mb-3 text-sm text-ink-2">
                <Trans>What stays: {e.stays?.join('; ')}.</Trans>
              </p>
              {e.files > 0 && (
                <fieldset className="mb-4">
                  <legend className="mb-1 text-sm font-semibold">
                    <Trans>
                      The <Plural value={e.files} one="# file" other="# files" /> that were filed
                    </Trans>
                  </legend>
                  <OneOf
                    name="erase-files"
                    value={files}
                    onChange={(v) => setFiles(v as 'keep')}
                    choices={[
                      ['keep', t`stay in their folders`],
                      ['remove', t`are removed for good`],
                    ]}
                  />
                </fieldset>
              )}
              <p className="mb-3 font-semibold text-seal">
                <Trans>It cannot be undone.</Trans>
              </p>
            </>
          )}
          {!placed(look.error, ['address']).size && <Wrong error={look.error ?? erase.error} />}
          <div className="flex justify-end gap-2">
            <Button onClick={onClose}>
              <Trans>Keep everything</Trans>
            </Button>
            {e ? (
              <Button look="seal" type="submit" disabled={erase.isPending}>
                <Trans>Erase for good</Trans>
              </Button>
            ) : (
              <Button look="main" type="submit" disabled={look.isPending}>
                <Trans>See what would be erased</Trans>
              </Button>
            )}
          </div>
        </form>
      )}
    </Sheet>
  )
}
