import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'

import { api, ifMatch, type Schemas, value } from '../api/client'
import { queries } from '../api/queries'
import { machine, pagesOf } from '../api/where'
import { Button, Chip, Field, Lines, Pick, Sheet, Wrong } from '../ui/basics'
import { End, sentence, useSettings } from '../ui/form'
import { copyOf, useOffice } from '../ui/office'
import { onServer } from './mailboxes'

type Machine = Schemas['Machine']

/** The other machines of the office. For administrators; a machine that is looked at through another one has none. */
export function Machines() {
  const me = useQuery(queries.me)
  const { others, here } = useOffice()
  const [editing, setEditing] = useState<Machine | 'new' | null>(null)
  const [leaving, setLeaving] = useState<Machine | null>(null)
  if (machine || me.data?.role !== 'administrator') return null
  return (
    <section className="mb-10 max-w-4xl" id="machines">
      <div className="mb-2 flex items-center justify-between">
        <h2>
          <Trans>Machines</Trans>
        </h2>
        <Button onClick={() => setEditing('new')}>
          <Trans>Add a machine</Trans>
        </Button>
      </div>
      {others.length === 0 && (
        <p className="text-ink-2">
          <Trans>
            This machine, “{here}”, works alone. If other machines of your office run Ink Tray for other mailboxes, add
            them here. You then see their tray, history and register together, with one sign-in.
          </Trans>
        </p>
      )}
      {others.map((m) => (
        <div key={m.name} className="flex flex-wrap items-start justify-between gap-3 border-t border-line py-3">
          <div className="min-w-0 flex-1 basis-72">
            <p>
              <a className="font-semibold text-pen hover:underline" href={pagesOf(m.name) + '/'}>
                {m.name}
              </a>{' '}
              <span className="[overflow-wrap:anywhere] text-ink-2">{m.address}</span>
            </p>
            {m.problem && <p className="text-sm text-seal">{sentence(m.problem)}</p>}
            <p className={`text-sm ${m.behind ? 'text-seal' : 'text-ink-3'}`}>
              <Trans>
                Its records: {copyOf(m)}
                {m.place && !m.behind ? t`, from ${m.place}` : ''}
              </Trans>
            </p>
            {!m.known && m.copy_at && (
              <p className="text-sm text-seal">
                <Trans>You cannot sign in there. Ask an administrator there to invite you under the same name.</Trans>
              </p>
            )}
          </div>
          <div className="flex flex-wrap items-center gap-2">
            <Chip word={m.answers ? 'answers' : m.problem ? 'away' : 'waits'} />
            <Button onClick={() => setEditing(m)}>
              <Trans>Change</Trans>
            </Button>
            <Button onClick={() => setLeaving(m)}>
              <Trans>Remove</Trans>
            </Button>
          </div>
        </div>
      ))}
      {editing && <MachineSheet machine={editing === 'new' ? undefined : editing} onClose={() => setEditing(null)} />}
      {leaving && <Leave machine={leaving} onClose={() => setLeaving(null)} />}
    </section>
  )
}

function MachineSheet({ machine: m, onClose }: { machine?: Machine; onClose: () => void }) {
  const form = useSettings({
    values: {
      name: m?.name ?? '',
      address: m?.address ?? '',
      token: '',
      place: m?.place ?? '',
      passphrase: '',
      user: m?.user ?? '',
      secret: '',
      region: m?.region ?? '',
      host_key: m?.host_key ?? '',
      authority: m?.authority ?? '',
    },
    revision: m?.revision,
    save: (v, revision) => {
      const given = (text: string) => text || undefined
      const body = {
        name: v.name,
        address: v.address,
        place: v.place,
        token: given(v.token),
        passphrase: given(v.passphrase),
        user: given(v.user),
        secret: given(v.secret),
        region: given(v.region),
        host_key: given(v.host_key),
        authority: given(v.authority),
      }
      return value(
        m
          ? api.PUT('/api/v1/machines/{name}', {
              params: { path: { name: m.name }, header: ifMatch(revision) },
              body,
            })
          : api.POST('/api/v1/machines', { body }),
      )
    },
    saved: onClose,
  })
  const remote = form.now.place.includes('://')
  const keep = m ? t`Leave empty to keep it.` : undefined
  return (
    <Sheet title={m ? t`The machine “${m.name}”` : t`Add a machine`} open onClose={onClose}>
      <form onSubmit={form.submit}>
        <p className="mb-4 text-ink-2">
          <Trans>
            The other machine keeps a replica (<code>--replica</code>), which this machine only reads. An administrator
            there makes a token with <code>inktray keys make NAME --scope machine</code>.
          </Trans>
        </p>
        <Field
          label={t`Name`}
          required
          hint={t`Any short name, such as north. Lists and addresses show it.`}
          {...form.bind('name')}
        />
        <Field
          label={t`Address`}
          required
          hint={t`Such as https://north.brackwater.example`}
          {...form.bind('address')}
        />
        <Field label={t`Token`} type="password" autoComplete="off" hint={keep} required={!m} {...form.bind('token')} />
        <Field
          label={t`Place of its replica`}
          required
          hint={t`The same as on that machine: a folder, or sftp://, https:// or s3+https://`}
          {...form.bind('place')}
        />
        <Field
          label={t`Passphrase of its replica`}
          type="password"
          autoComplete="off"
          hint={keep}
          required={!m}
          {...form.bind('passphrase')}
        />
        {remote && (
          <>
            <Field label={t`User name at that place`} hint={t`Reading is enough.`} {...form.bind('user')} />
            <Field
              label={t`Its password or key`}
              type="password"
              autoComplete="off"
              hint={keep}
              {...form.bind('secret')}
            />
            {form.now.place.startsWith('s3+') && (
              <Field label={t`Region`} hint={t`Of the object store, if it has one.`} {...form.bind('region')} />
            )}
            {form.now.place.startsWith('sftp') && (
              <Field label={t`Fingerprint of the server’s key`} hint={t`SHA256:…`} {...form.bind('host_key')} />
            )}
          </>
        )}
        <Lines
          label={t`Certificate of an authority`}
          hint={t`PEM. Trusted for the machine and its replica, in addition to the system’s authorities.`}
          code
          {...form.bind('authority')}
        />
        <End of={form} label={m ? t`Save` : t`Add it`} onClose={onClose} />
      </form>
    </Sheet>
  )
}

function Leave({ machine: m, onClose }: { machine: Machine; onClose: () => void }) {
  const client = useQueryClient()
  const remove = useMutation({
    mutationFn: () => value(api.DELETE('/api/v1/machines/{name}', { params: { path: { name: m.name } } })),
    onSuccess: () => {
      void client.invalidateQueries()
      onClose()
    },
  })
  return (
    <Sheet title={t`Remove “${m.name}”?`} open onClose={onClose}>
      <p>
        <Trans>
          The machine goes on with its work. Its lists are no longer shown here, and this machine removes its copy of
          the records.
        </Trans>
      </p>
      <Wrong error={remove.error} />
      <div className="mt-5 flex justify-end gap-2">
        <Button onClick={onClose}>
          <Trans>Keep it</Trans>
        </Button>
        <Button look="seal" disabled={remove.isPending} onClick={() => remove.mutate()}>
          <Trans>Remove</Trans>
        </Button>
      </div>
    </Sheet>
  )
}

/** Moves a mailbox of this machine to another one, or one of another machine to this one. */
export function MoveMailbox({ mailbox, from, onClose }: { mailbox?: string; from?: string; onClose: () => void }) {
  const client = useQueryClient()
  const { others, here } = useOffice()
  const [of, setOf] = useState(from ?? here)
  const [name, setName] = useState(mailbox ?? '')
  const [to, setTo] = useState(mailbox ? (others[0]?.name ?? '') : here)
  const [secret, setSecret] = useState('')
  const there = useQuery(queries.mailboxesOf(of === here ? undefined : of))
  const movable = (there.data ?? []).filter((m) => onServer(m.kind))
  const chosen = name || movable[0]?.name || ''
  const byConsent = !!movable.find((m) => m.name === chosen)?.consent
  const move = useMutation({
    mutationFn: () =>
      value(
        api.POST('/api/v1/mailboxes/move', { body: { mailbox: chosen, from: of, to, secret: secret || undefined } }),
      ),
    onSuccess: () => void client.invalidateQueries(),
  })
  const machines = [here, ...others.map((m) => m.name)].map((m): [string, string] => [m, m])
  return (
    <Sheet title={mailbox ? t`Move “${mailbox}”` : t`Move a mailbox`} open onClose={onClose}>
      {move.data ? (
        <>
          <p>
            <Trans>
              “{move.data.name}” is now on the machine “{move.data.machine}”. Filing goes on from where it stopped.
              {move.data.needs_secret &&
                t` It is not watched yet. Enter its password, or sign in, in the settings of that machine.`}
            </Trans>
          </p>
          <div className="mt-5 flex justify-end">
            <Button look="main" onClick={onClose}>
              <Trans>Close</Trans>
            </Button>
          </div>
        </>
      ) : (
        <form
          onSubmit={(e) => {
            e.preventDefault()
            move.mutate()
          }}
        >
          <p className="mb-4 text-ink-2">
            <Trans>
              The rules that look into this mailbox and what was decided for each message move with it. Nothing is filed
              twice, and mail that arrives meanwhile is filed. The former machine switches off the rules that look into
              no other mailbox. Filed files stay in the register of the machine that filed them.
            </Trans>
          </p>
          {!mailbox && (
            <>
              <Pick
                label={t`From`}
                value={of}
                onChange={(v) => {
                  setOf(v)
                  setName('')
                }}
                choices={machines}
              />
              <Pick
                label={t`Mailbox`}
                value={chosen}
                onChange={setName}
                choices={movable.map((m): [string, string] => [m.name, m.name])}
              />
            </>
          )}
          <Pick label={t`To`} value={to} onChange={setTo} choices={machines.filter(([m]) => m !== of)} />
          {!byConsent && (
            <Field
              label={t`Its password at the mail server`}
              type="password"
              autoComplete="off"
              required
              hint={t`Passwords do not move between machines.`}
              value={secret}
              onChange={(e) => setSecret(e.target.value)}
            />
          )}
          <Wrong error={move.error ?? there.error} />
          <div className="mt-5 flex justify-end gap-2">
            <Button onClick={onClose}>
              <Trans>Cancel</Trans>
            </Button>
            <Button look="main" type="submit" disabled={!chosen || !to || to === of || move.isPending}>
              {move.isPending ? t`Moving…` : t`Move it`}
            </Button>
          </div>
        </form>
      )}
    </Sheet>
  )
}
