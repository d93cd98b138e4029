import { plural, t } from '@lingui/core/macro'
import { Plural, Trans } from '@lingui/react/macro'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'

import { api, ifMatch, Problem, type Schemas, value } from '../api/client'
import { keys, queries } from '../api/queries'
import { OneOf } from '../letter/blanks'
import { Button, Chip, Field, Lines, Listing, Pick, Sheet, Wrong } from '../ui/basics'
import { FolderField } from '../ui/folderpicker'
import { End, sentence, useSettings } from '../ui/form'
import { exactly, size, when } from '../ui/format'

/** Where and when backups are made, and the comparison after one was put back. For administrators. */
export function Backups() {
  const client = useQueryClient()
  const [planning, setPlanning] = useState(false)
  const query = useQuery({
    ...queries.backup,
    retry: false,
    refetchInterval: (q) => (q.state.data?.running_since ? 500 : false),
  })
  const make = useMutation({
    mutationFn: () => value(api.POST('/api/v1/backup')),
    onSuccess: () => client.invalidateQueries({ queryKey: keys.backup }),
  })
  if (query.error instanceof Problem && query.error.status === 403) return null
  return (
    <section className="mb-10 max-w-4xl" id="backups">
      <div className="mb-2 flex flex-wrap items-center justify-between gap-3">
        <h2>
          <Trans>Backups</Trans>
        </h2>
        <span className="flex gap-2">
          {query.data && query.data.place !== 'none' && (
            <Button onClick={() => make.mutate()} disabled={make.isPending || !!query.data.running_since}>
              {query.data.running_since ? t`Backing up…` : t`Back up now`}
            </Button>
          )}
          <Button disabled={!query.data} onClick={() => setPlanning(true)}>
            {query.data?.place === 'none' ? t`Set up backups` : t`Change the plan`}
          </Button>
        </span>
      </div>
      <Wrong error={make.error} />
      <Restored />
      <Listing
        query={query}
        empty={(b) =>
          b.place === 'none' &&
          t`Ink Tray makes no backups yet. A backup is one file with everything that Ink Tray needs: the records, the key, and mail that only Ink Tray has.`
        }
      >
        {(b) => <State b={b} />}
      </Listing>
      {planning && query.data && <PlanSheet b={query.data} onClose={() => setPlanning(false)} />}
    </section>
  )
}

function State({ b }: { b: Schemas['Backup'] }) {
  return (
    <div className="border-t border-line py-3">
      <div className="flex flex-wrap items-start justify-between gap-3">
        <p className="min-w-0 flex-1 basis-72 [overflow-wrap:anywhere]">
          <span className="font-semibold">{b.place === 'folder' ? b.folder : b.cabinet}</span>{' '}
          <span className="text-ink-2">
            <Trans>
              {b.every_days === 1 ? t`every day` : t`every ${b.every_days} days`} at {b.at}, {b.keep} are kept, opened
              with {b.public_keys.length > 0 ? t`a private key` : t`a passphrase`}
            </Trans>
          </span>
        </p>
        {b.late ? <Chip word={'late'} /> : b.problem ? <Chip word={'failed'} /> : b.last && <Chip word={'in order'} />}
      </div>
      {b.last ? (
        <p className="text-sm text-ink-3 [overflow-wrap:anywhere]">
          <Trans>
            The last one: {when(b.last.at)}, {size(b.last.size)} with{' '}
            <Plural value={b.last.files} one="# file" other="# files" />
            {b.last.place !== b.folder && t`, in ${b.last.place}`}. It was read back to its end.
            {b.next && t` The next one: ${exactly(b.next)}.`}
          </Trans>
        </p>
      ) : (
        !b.problem && (
          <p className="text-sm text-ink-3">
            <Trans>Ink Tray is making the first one.</Trans>
          </p>
        )
      )}
      {b.problem && (
        <p className="text-sm text-seal">
          <Trans>
            The backup failed{b.failed_at && ` ${when(b.failed_at)}`}: {sentence(b.problem)} Ink Tray tries again every
            hour.
          </Trans>
        </p>
      )}
      {b.kept_problem && (
        <p className="text-sm text-seal">
          <Trans>The kept backups cannot be listed: {sentence(b.kept_problem)}</Trans>
        </p>
      )}
      {b.kept.length > 0 && (
        <details className="mt-1 text-sm text-ink-3">
          <summary>
            <Trans>
              <Plural value={b.kept.length} one="# backup is" other="# backups are" /> kept
            </Trans>
          </summary>
          <ul>
            {b.kept.map((k) => (
              <li key={k.name} className="[overflow-wrap:anywhere]">
                {k.name}
                {k.size !== undefined && `, ${size(k.size)}`}
              </li>
            ))}
          </ul>
        </details>
      )}
    </div>
  )
}

function PlanSheet({ b, onClose }: { b: Schemas['Backup']; onClose: () => void }) {
  const cabinets = useQuery(queries.cabinets)
  const values = {
    place: b.place === 'none' ? ('folder' as const) : b.place,
    folder: b.folder,
    cabinet: b.cabinet,
    at: b.at,
    every_days: b.every_days,
    keep: b.keep,
    opened: b.public_keys.length > 0 ? 'key' : 'passphrase',
    passphrase: '',
    public_keys: b.public_keys.join('\n'),
  }
  const cabinetOf = (v: typeof values) => v.cabinet || cabinets.data?.[0]?.name || ''
  const body = ({ opened, passphrase, public_keys, ...v }: typeof values): Schemas['BackupSettings'] => ({
    ...v,
    cabinet: v.place === 'cabinet' ? cabinetOf({ opened, passphrase, public_keys, ...v }) : undefined,
    folder: v.place === 'folder' ? v.folder : undefined,
    passphrase: opened === 'passphrase' && passphrase ? passphrase : undefined,
    public_keys: opened === 'key' ? public_keys.split(/\s+/).filter(Boolean) : undefined,
  })
  const form = useSettings<typeof values, unknown>({
    values,
    revision: b.revision,
    save: (v, on) => value(api.PUT('/api/v1/backup', { params: { header: ifMatch(on) }, body: body(v) })),
    saved: onClose,
  })
  const off = useMutation({
    mutationFn: () =>
      value(api.PUT('/api/v1/backup', { body: { place: 'none', at: b.at, every_days: b.every_days, keep: b.keep } })),
    onSuccess: onClose,
  })
  const { bind, held, now } = form
  return (
    <Sheet title={t`Backups`} open onClose={onClose}>
      <form onSubmit={form.submit}>
        <fieldset className="mb-4">
          <legend className="mb-1 text-sm font-semibold">
            <Trans>Where</Trans>
          </legend>
          <OneOf
            name="backup-place"
            value={now.place}
            onChange={(v) => form.set('place', v as 'folder')}
            choices={[
              ['folder', t`a folder on this machine, such as a mounted share`],
              ['cabinet', t`a cabinet`],
            ]}
          />
        </fieldset>
        {now.place === 'folder' ? (
          <FolderField
            label={t`Folder`}
            required
            hint={t`The whole path, best on another machine. A backup on the same disk is lost with the disk.`}
            {...bind('folder')}
            path={now.folder}
            onChoose={(p) => form.set('folder', p)}
          />
        ) : (
          <Pick
            label={t`Cabinet`}
            choices={(cabinets.data ?? []).map((c) => [c.name, c.name])}
            {...held('cabinet')}
            value={cabinetOf(now)}
          />
        )}
        <div className="grid gap-x-3 sm:grid-cols-3">
          <Field label={t`Time of the day`} type="time" required {...bind('at')} />
          <Field
            label={t`Days between two backups`}
            type="number"
            min={1}
            required
            {...bind('every_days', { valueAsNumber: true })}
          />
          <Field
            label={t`How many to keep`}
            type="number"
            min={1}
            required
            {...bind('keep', { valueAsNumber: true })}
          />
        </div>
        <fieldset className="mb-4">
          <legend className="mb-1 text-sm font-semibold">
            <Trans>Opened with</Trans>
          </legend>
          <OneOf
            name="backup-opened"
            value={now.opened}
            onChange={(v) => form.set('opened', v)}
            choices={[
              ['passphrase', t`a passphrase`],
              ['key', t`a private key that only you have`],
            ]}
          />
        </fieldset>
        {now.opened === 'passphrase' ? (
          <Field
            label={t`Passphrase`}
            type="password"
            autoComplete="new-password"
            required={!b.passphrase_kept}
            hint={
              b.passphrase_kept
                ? t`Leave empty to keep it. Earlier backups still open with the former one.`
                : t`At least 12 characters. Write it down in a safe place: without it, nobody can open the backups.`
            }
            {...bind('passphrase')}
          />
        ) : (
          <Lines
            label={t`Public keys, one per line`}
            hint={t`inktray backup new-key makes a pair. Each begins with age1.`}
            code
            {...bind('public_keys')}
          />
        )}
        <End
          of={form}
          label={b.place === 'none' ? t`Begin` : t`Save`}
          onClose={onClose}
          mine={body(now)}
          look={() => value(api.GET('/api/v1/backup'))}
        />
        {b.place !== 'none' && (
          <p className="mt-4 text-sm">
            <button type="button" className="text-pen underline" onClick={() => off.mutate()}>
              <Trans>Stop making backups</Trans>
            </button>{' '}
            <span className="text-ink-3">
              <Trans>The backups that were made stay.</Trans>
            </span>
          </p>
        )}
        <Wrong error={off.error} />
      </form>
    </Sheet>
  )
}

/** How far records that came out of a backup are compared with mailboxes and cabinets. */
function Restored() {
  const client = useQueryClient()
  const [ending, setEnding] = useState(false)
  const query = useQuery({
    ...queries.restored,
    retry: false,
    refetchInterval: (q) => (q.state.data && !q.state.data.ended_at ? 2_000 : false),
  })
  const end = useMutation({
    mutationFn: () => value(api.DELETE('/api/v1/restored')),
    onSuccess: () => {
      setEnding(false)
      void client.invalidateQueries()
    },
  })
  const r = query.data
  if (!r) return null
  const waits = [
    r.waits_for_cabinets.length > 0 && t`cabinets: ${r.waits_for_cabinets.join(', ')}`,
    r.waits_for_mailboxes.length > 0 && t`mailboxes: ${r.waits_for_mailboxes.join(', ')}`,
    r.waits_for_items > 0 && plural(r.waits_for_items, { one: '# attachment', other: '# attachments' }),
  ].filter(Boolean)
  return (
    <div className="mb-3 rounded-xl border border-line bg-paper p-4" role="status">
      <p>
        <Trans>
          The records are those of the backup of {exactly(r.made_at)}, put back {when(r.restored_at)}.{' '}
          {r.ended_at
            ? t`Ink Tray compared them with the mailboxes and cabinets${r.ended_by ? t`, until ${r.ended_by} ended that` : ''}.`
            : t`Ink Tray compares them with the mailboxes and cabinets, so that files that were filed since are not filed again.`}
        </Trans>
      </p>
      <p className="text-sm text-ink-2">
        <Trans>
          <Plural value={r.files} one="# file was" other="# files were" /> not in the backup,{' '}
          <Plural value={r.recognised} one="# of these is recognised" other="# of these are recognised" />;{' '}
          <Plural value={r.taken_back} one="# filing" other="# filings" /> had been taken back since;{' '}
          <Plural
            value={r.missing}
            one="# file is not where the register has it"
            other="# files are not where the register has them"
          />
          {r.unknown !== undefined &&
            t`; ${plural(r.unknown, { one: '# file belongs', other: '# files belong' })} to nothing in the mailboxes`}
          .
        </Trans>
      </p>
      {r.missing_examples.length > 0 && (
        <details className="text-sm text-ink-3">
          <summary>
            <Trans>Files that are missing</Trans>
          </summary>
          <ul>
            {r.missing_examples.map((m) => (
              <li key={m} className="[overflow-wrap:anywhere]">
                {m}
              </li>
            ))}
          </ul>
        </details>
      )}
      {!r.ended_at && (
        <div className="mt-2 flex flex-wrap items-center justify-between gap-3">
          <p className="text-sm text-ink-3">{waits.length > 0 && t`It still waits for ${waits.join('; ')}.`}</p>
          <Button onClick={() => setEnding(true)}>
            <Trans>End the comparison…</Trans>
          </Button>
        </div>
      )}
      <Sheet title={t`End the comparison?`} open={ending} onClose={() => setEnding(false)}>
        <p>
          <Trans>
            Ink Tray then stops waiting. In mailboxes and cabinets that it has not compared, attachments that were filed
            after the backup may be filed a second time.
          </Trans>
        </p>
        <Wrong error={end.error} />
        <div className="mt-5 flex justify-end gap-2">
          <Button onClick={() => setEnding(false)}>
            <Trans>Keep comparing</Trans>
          </Button>
          <Button look="main" onClick={() => end.mutate()} disabled={end.isPending}>
            <Trans>End it</Trans>
          </Button>
        </div>
      </Sheet>
    </div>
  )
}
