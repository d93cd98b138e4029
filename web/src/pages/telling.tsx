import { plural, t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'

import { api, ifMatch, Problem, type Schemas, value } from '../api/client'
import { keys, queries } from '../api/queries'
import { Button, Chip, Field, Listing, Pick, Sheet, Tick, Wrong } from '../ui/basics'
import { End, useSettings } from '../ui/form'
import { when } from '../ui/format'
import { written } from '../ui/language'
import { useOwnAddress } from '../ui/office'
import { Remover } from '../ui/remover'

/** Outgoing mail, notifications and alarms. */
export function Telling() {
  return (
    <>
      <OutgoingMail />
      <Addressees />
      <Alarms />
    </>
  )
}

function OutgoingMail() {
  const client = useQueryClient()
  const [open, setOpen] = useState(false)
  const query = useQuery({ ...queries.outgoing, retry: false })
  const check = useMutation({ mutationFn: () => value(api.POST('/api/v1/outgoing/check')) })
  if (query.error instanceof Problem && query.error.status === 403) return null
  return (
    <section className="mb-10 max-w-4xl">
      <div className="mb-2 flex items-center justify-between">
        <h2>
          <Trans>Outgoing mail</Trans>
        </h2>
        <Button onClick={() => setOpen(true)}>
          {sends(query.data) ? t`Change how mail is sent` : t`Set up outgoing mail`}
        </Button>
      </div>
      <Listing
        query={query}
        empty={(o) => !sends(o) && t`Ink Tray sends no mail yet. Replies, notifications and alarms by mail need it.`}
      >
        {(o) => (
          <div className="flex flex-wrap items-start justify-between gap-3 border-t border-line py-3">
            <p className="min-w-0 [overflow-wrap:anywhere]">
              <span className="font-semibold">{o.name || o.from}</span>{' '}
              <span className="text-ink-2">
                {o.name && `${o.from} `}
                {o.mailbox
                  ? t`through the mailbox “${o.mailbox}”`
                  : t`by ${o.host}${o.port ? `:${o.port}` : ''}, ${o.encryption === 'none' ? t`not encrypted` : o.encryption}`}
              </span>
            </p>
            <Button onClick={() => check.mutate()} disabled={check.isPending}>
              <Trans>Check outgoing mail</Trans>
            </Button>
          </div>
        )}
      </Listing>
      {check.data && (
        <p role="status" className={check.data.ok ? 'text-moss' : 'text-seal'}>
          {check.data.text.replace(/\.$/, '')}. {check.data.advice}
        </p>
      )}
      {open && query.data && (
        <OutgoingSheet
          o={query.data}
          onClose={() => {
            setOpen(false)
            check.reset()
            void client.invalidateQueries({ queryKey: keys.outgoing })
          }}
        />
      )}
    </section>
  )
}

const sends = (o?: Schemas['Outgoing']) => Boolean(o?.host || o?.mailbox)

function OutgoingSheet({ o, onClose }: { o: Schemas['Outgoing']; onClose: () => void }) {
  const own = useOwnAddress()
  const mailboxes = useQuery(queries.mailboxes)
  const senders = mailboxes.data?.filter((m) => m.kind === 'jmap').map((m) => m.name) ?? []
  const form = useSettings({
    values: {
      mailbox: o.mailbox,
      host: o.host,
      port: o.port ? String(o.port) : '',
      encryption: (o.encryption || 'starttls') as 'tls' | 'starttls' | 'none',
      username: o.username,
      password: '',
      from: o.from,
      name: o.name,
      console: o.console || own,
    },
    revision: o.revision,
    save: (s, revision) =>
      value(
        api.PUT('/api/v1/outgoing', {
          params: { header: ifMatch(revision) },
          body: {
            ...s,
            host: s.mailbox ? '' : s.host,
            port: Number(s.port) || 0,
            password: s.password || undefined,
          },
        }),
      ),
    saved: onClose,
  })
  const { bind, held, now } = form
  return (
    <Sheet title={t`How mail is sent`} open onClose={onClose}>
      <form onSubmit={form.submit}>
        {(senders.length > 0 || o.mailbox) && (
          <Pick
            label={t`Who sends the mail`}
            choices={[
              ['', t`a mail server (SMTP)`],
              ...[...new Set([...senders, ...(o.mailbox ? [o.mailbox] : [])])].map((name): [string, string] => [
                name,
                t`the server of the mailbox “${name}”`,
              ]),
            ]}
            {...held('mailbox')}
          />
        )}
        {!now.mailbox && (
          <>
            <div className="grid grid-cols-[1fr_7rem] gap-3">
              <Field
                label={t`Mail server`}
                hint={t`such as smtp.brackwater.example; empty sends no mail`}
                {...bind('host')}
              />
              <Field label={t`Port`} inputMode="numeric" pattern="[0-9]*" hint={t`or leave empty`} {...bind('port')} />
            </div>
            <Pick
              label={t`Encryption`}
              choices={[
                ['starttls', t`STARTTLS (usual, port 587)`],
                ['tls', t`TLS, from the first byte (port 465)`],
                ['none', t`none: the password can be read on the way`],
              ]}
              {...held('encryption')}
            />
            <div className="grid gap-x-3 sm:grid-cols-2">
              <Field
                label={t`Sign in as`}
                autoComplete="off"
                hint={t`Leave empty if the server needs no sign-in.`}
                {...bind('username')}
              />
              <Field
                label={t`Password`}
                type="password"
                autoComplete="new-password"
                hint={
                  o.has_password
                    ? t`Leave empty to keep it. If the server, port, encryption or name changes, enter it again.`
                    : t`Ink Tray keeps it encrypted.`
                }
                {...bind('password')}
              />
            </div>
          </>
        )}
        <div className="grid gap-x-3 sm:grid-cols-2">
          <Field label={t`Sender’s address`} {...bind('from')} />
          <Field label={t`Sender’s name`} {...bind('name')} />
        </div>
        <Field label={t`Address of Ink Tray, for links`} {...bind('console')} />
        <End
          of={form}
          label={t`Save`}
          onClose={onClose}
          mine={{ ...now, port: Number(now.port) || 0, password: undefined }}
          look={() => value(api.GET('/api/v1/outgoing'))}
        />
      </form>
    </Sheet>
  )
}

const told = {
  never: t`gets nothing about the tray`,
  'at once': t`gets what waits in the tray immediately`,
  daily: t`gets what waits in the tray once a day`,
}

function Addressees() {
  const [editing, setEditing] = useState<Schemas['Addressee'] | 'new' | null>(null)
  const [tried, setTried] = useState<Record<string, Schemas['Trial']>>({})
  const query = useQuery(queries.addressees)
  const trial = useMutation({
    mutationFn: (id: string) => value(api.POST('/api/v1/addressees/{id}/trial', { params: { path: { id } } })),
    onSuccess: (outcome, id) => setTried((all) => ({ ...all, [id]: outcome })),
  })
  return (
    <section className="mb-10 max-w-4xl">
      <div className="mb-2 flex items-center justify-between">
        <h2>
          <Trans>Notifications</Trans>
        </h2>
        <Button onClick={() => setEditing('new')}>
          <Trans>Add a notification</Trans>
        </Button>
      </div>
      <Wrong error={trial.error} />
      <Listing
        query={query}
        empty={(a) =>
          a.length === 0 &&
          t`No notifications yet. A rule can tell people what it filed, an alarm what is missing, and a notification what waits in the tray.`
        }
      >
        {(all) =>
          all.map((a) => (
            <div key={a.id} className="flex flex-wrap items-start justify-between gap-3 border-t border-line py-3">
              <div className="min-w-0">
                <p className="[overflow-wrap:anywhere]">
                  <span className="font-semibold">{a.name}</span>{' '}
                  <span className="text-ink-2">
                    {a.kind === 'mail' ? a.addresses.join(', ') : t`called at ${a.url}`}
                  </span>
                </p>
                <p className="text-sm text-ink-3">
                  {told[a.tray]}
                  {a.tray === 'daily' && t` at ${a.daily_at}`}
                  {a.kind === 'call' && !a.has_secret && t`; the calls are not signed`}
                </p>
                {tried[a.id] && (
                  <p role="status" className={`text-sm ${tried[a.id].ok ? 'text-moss' : 'text-seal'}`}>
                    {tried[a.id].text.replace(/\.$/, '')}. {tried[a.id].advice}
                  </p>
                )}
              </div>
              <div className="flex items-center gap-2">
                <Chip word={a.kind === 'mail' ? 'mail' : 'call'} />
                <Button onClick={() => trial.mutate(a.id)} disabled={trial.isPending}>
                  <Trans>Try</Trans>
                </Button>
                <Button onClick={() => setEditing(a)}>
                  <Trans>Change</Trans>
                </Button>
                <Remover
                  name={a.name}
                  lost={t`Ink Tray no longer sends anything there.`}
                  remove={() => value(api.DELETE('/api/v1/addressees/{id}', { params: { path: { id: a.id } } }))}
                />
              </div>
            </div>
          ))
        }
      </Listing>
      {editing && <AddresseeSheet a={editing === 'new' ? null : editing} onClose={() => setEditing(null)} />}
    </section>
  )
}

function AddresseeSheet({ a, onClose }: { a: Schemas['Addressee'] | null; onClose: () => void }) {
  const form = useSettings({
    values: {
      name: a?.name ?? '',
      kind: a?.kind ?? 'mail',
      addresses: a?.addresses.join(', ') ?? '',
      url: a?.url ?? '',
      secret: '',
      inside: a?.inside ?? false,
      tray: a?.tray ?? 'never',
      daily_at: a?.daily_at ?? '08:00',
    },
    revision: a?.revision,
    save: (s, revision) =>
      value(
        a
          ? api.PUT('/api/v1/addressees/{id}', {
              params: { path: { id: a.id }, header: ifMatch(revision) },
              body: addressee(s),
            })
          : api.POST('/api/v1/addressees', { body: addressee(s) }),
      ),
    saved: onClose,
  })
  const { bind, held, now } = form
  return (
    <Sheet title={a ? `“${a.name}”` : t`Add a notification`} open onClose={onClose}>
      <form onSubmit={form.submit}>
        <Field label={t`Name`} required readOnly={!!a} hint={t`Rules and alarms use this name.`} {...bind('name')} />
        <Pick
          label={t`How`}
          choices={[
            ['mail', t`by mail`],
            ['call', t`by calling a program (CloudEvents over HTTP)`],
          ]}
          {...held('kind')}
        />
        {now.kind === 'mail' ? (
          <Field label={t`Addresses`} required hint={t`Separate several addresses by commas.`} {...bind('addresses')} />
        ) : (
          <>
            <Field label={t`Address to call`} required hint={t`https://…`} {...bind('url')} />
            <Field
              label={t`Secret that signs the calls`}
              type="password"
              autoComplete="new-password"
              hint={
                a?.has_secret
                  ? t`Leave empty to keep it. Another address needs it again.`
                  : t`With it the program proves that a call came from Ink Tray (RFC 9421).`
              }
              {...bind('secret')}
            />
            <div className="mb-4">
              <Tick
                label={t`allow calls into this machine’s own network`}
                checked={now.inside}
                onChange={(yes) => form.set('inside', yes)}
              />
            </div>
          </>
        )}
        <Pick
          label={t`What waits in the tray`}
          choices={[
            ['never', t`sends nothing`],
            ['at once', t`sends it immediately`],
            ['daily', t`sends it once a day`],
          ]}
          {...held('tray')}
        />
        {now.tray === 'daily' && <Field label={t`Every day at`} type="time" {...bind('daily_at')} />}
        <End
          of={form}
          label={a ? t`Save` : t`Add`}
          onClose={onClose}
          mine={addressee(now)}
          look={() => value(api.GET('/api/v1/addressees')).then((l) => l.find((x) => x.id === a?.id))}
        />
      </form>
    </Sheet>
  )
}

type Typed = {
  name: string
  kind: 'mail' | 'call'
  addresses: string
  url: string
  secret: string
  inside: boolean
  tray: 'never' | 'at once' | 'daily'
  daily_at: string
}

/** What is typed of somebody, as the service takes it. */
function addressee({ addresses, url, secret, ...s }: Typed) {
  const all = addresses.split(',').map((x) => x.trim())
  return {
    ...s,
    addresses: s.kind === 'mail' ? all.filter(Boolean) : [],
    url: s.kind === 'call' ? url : '',
    secret: (s.kind === 'call' && secret) || undefined,
  }
}

const days = ['monday', 'tuesday', 'wednesday', 'thursday', 'friday', 'saturday', 'sunday'] as const
const dayOf = new Intl.DateTimeFormat(written, { weekday: 'long', timeZone: 'UTC' })
/** The name of a day as people write it; 5 January 1970 was a Monday. */
const dayName = (day: (typeof days)[number]) => dayOf.format(Date.UTC(1970, 0, 5 + days.indexOf(day)))

function Alarms() {
  const [editing, setEditing] = useState<Schemas['Alarm'] | 'new' | null>(null)
  const query = useQuery(queries.alarms)
  return (
    <section className="mb-10 max-w-4xl">
      <div className="mb-2 flex items-center justify-between">
        <h2>
          <Trans>Alarms</Trans>
        </h2>
        <Button onClick={() => setEditing('new')}>
          <Trans>Set an alarm</Trans>
        </Button>
      </div>
      <Listing
        query={query}
        empty={(a) =>
          a.length === 0 &&
          t`No alarms yet. An alarm tells people when a rule files too little, or when a mailbox or a cabinet is out of reach.`
        }
      >
        {(all) =>
          all.map((a) => (
            <div key={a.id} className="flex flex-wrap items-start justify-between gap-3 border-t border-line py-3">
              <div className="min-w-0 flex-1 basis-72">
                <p className="font-semibold">{a.name}</p>
                <p className="text-ink-2">{a.sentence}</p>
                {a.rang_at && (
                  <p className="text-sm text-ink-3">
                    <Trans>last sent {when(a.rang_at)}</Trans>
                  </p>
                )}
              </div>
              <div className="flex items-center gap-2">
                <Button onClick={() => setEditing(a)}>
                  <Trans>Change</Trans>
                </Button>
                <Remover
                  name={a.name}
                  lost={t`Nobody is warned of this any longer.`}
                  remove={() => value(api.DELETE('/api/v1/alarms/{id}', { params: { path: { id: a.id } } }))}
                />
              </div>
            </div>
          ))
        }
      </Listing>
      {editing && <AlarmSheet a={editing === 'new' ? null : editing} onClose={() => setEditing(null)} />}
    </section>
  )
}

type Ringing = {
  name: string
  kind: 'silence' | 'out of reach'
  rule: string
  at_least: string
  within_hours: string
  by_time: string
  weekdays: string[]
  place: string
  after_minutes: string
  who: string[]
}

/** What is typed of an alarm, as the service takes it. */
const alarm = (s: Ringing, rule: string) =>
  s.kind === 'silence'
    ? {
        name: s.name,
        kind: s.kind,
        rule,
        at_least: Number(s.at_least) || 1,
        within_hours: Number(s.within_hours) || 24,
        by_time: s.by_time,
        weekdays: s.weekdays.length === 7 ? [] : (s.weekdays as (typeof days)[number][]),
        who: s.who,
      }
    : {
        name: s.name,
        kind: s.kind,
        mailbox: s.place.startsWith('m ') ? s.place.slice(2) : undefined,
        cabinet: s.place.startsWith('c ') ? s.place.slice(2) : undefined,
        after_minutes: Number(s.after_minutes) || 60,
        who: s.who,
      }

function AlarmSheet({ a, onClose }: { a: Schemas['Alarm'] | null; onClose: () => void }) {
  const rules = useQuery(queries.rules)
  const people = useQuery(queries.addressees)
  const mailboxes = useQuery(queries.mailboxes)
  const cabinets = useQuery(queries.cabinets)
  const chosen = (s: Ringing) => s.rule || rules.data?.[0]?.name || ''
  const form = useSettings<Ringing, unknown>({
    values: {
      name: a?.name ?? '',
      kind: a?.kind ?? 'silence',
      rule: a?.rule ?? '',
      at_least: String(a?.at_least || 1),
      within_hours: String(a?.within_hours || 24),
      by_time: a?.by_time || '10:00',
      weekdays: a?.weekdays ?? ['monday', 'tuesday', 'wednesday', 'thursday', 'friday'],
      place: a?.mailbox ? `m ${a.mailbox}` : a?.cabinet ? `c ${a.cabinet}` : '',
      after_minutes: String(a?.after_minutes || 60),
      who: a?.who ?? [],
    },
    revision: a?.revision,
    save: (s, revision) => {
      const body = alarm(s, chosen(s))
      return value<unknown>(
        a
          ? api.PUT('/api/v1/alarms/{id}', { params: { path: { id: a.id }, header: ifMatch(revision) }, body })
          : api.POST('/api/v1/alarms', { body }),
      )
    },
    saved: onClose,
  })
  const { bind, held, now, set } = form
  const every = now.weekdays.length === 0
  return (
    <Sheet title={a ? t`The alarm “${a.name}”` : t`Set an alarm`} open onClose={onClose}>
      <form onSubmit={form.submit}>
        <Field label={t`Name`} required hint={t`such as: no tide readings`} {...bind('name')} />
        <Pick
          label={t`Warn when`}
          choices={[
            ['silence', t`a rule filed too little`],
            ['out of reach', t`a mailbox or a cabinet is out of reach`],
          ]}
          {...held('kind')}
        />
        {now.kind === 'silence' ? (
          <>
            <Pick
              label={t`Rule`}
              choices={(rules.data ?? []).map((r) => [r.name, r.name])}
              {...held('rule')}
              value={chosen(now)}
            />
            <div className="grid grid-cols-3 gap-3">
              <Field label={t`At least`} type="number" min={1} hint={t`files`} {...bind('at_least')} />
              <Field label={t`Within`} type="number" min={1} hint={t`hours`} {...bind('within_hours')} />
              <Field label={t`By`} type="time" {...bind('by_time')} />
            </div>
            <fieldset className="mb-4">
              <legend className="mb-1 text-sm font-semibold">
                <Trans>On</Trans>
              </legend>
              <div className="grid grid-cols-2 sm:grid-cols-4">
                {days.map((d) => (
                  <Tick
                    key={d}
                    label={dayName(d)}
                    checked={every || now.weekdays.includes(d)}
                    onChange={(yes) =>
                      set(
                        'weekdays',
                        days.filter((x) => (x === d ? yes : every || now.weekdays.includes(x))),
                      )
                    }
                  />
                ))}
              </div>
            </fieldset>
          </>
        ) : (
          <>
            <Pick
              label={t`Which`}
              choices={[
                ['', t`any mailbox or cabinet`],
                ...(mailboxes.data ?? []).map((m): [string, string] => [`m ${m.name}`, t`the mailbox ${m.name}`]),
                ...(cabinets.data ?? []).map((c): [string, string] => [`c ${c.name}`, t`the cabinet ${c.name}`]),
              ]}
              {...held('place')}
            />
            <Field label={t`For longer than`} type="number" min={1} hint={t`minutes`} {...bind('after_minutes')} />
          </>
        )}
        <fieldset className="mb-4">
          <legend className="mb-1 text-sm font-semibold">
            <Trans>Who gets it</Trans>
          </legend>
          {people.data?.length === 0 && (
            <p className="text-ink-2">
              <Trans>Nobody can be told yet. Add a notification first.</Trans>
            </p>
          )}
          {people.data?.map((p) => (
            <Tick
              key={p.id}
              label={p.name}
              checked={now.who.includes(p.name)}
              onChange={(yes) => set('who', yes ? [...now.who, p.name] : now.who.filter((x) => x !== p.name))}
            />
          ))}
        </fieldset>
        <End
          of={form}
          label={a ? t`Save` : t`Set alarm`}
          disabled={now.who.length === 0}
          onClose={onClose}
          mine={alarm(now, chosen(now))}
          look={() => value(api.GET('/api/v1/alarms')).then((l) => l.find((x) => x.id === a?.id))}
        />
      </form>
    </Sheet>
  )
}

type Limit = Exclude<keyof Schemas['Limits'], 'revision'>
const kept: [Limit, string, string][] = [
  ['history_days', t`History`, t`days; 0 keeps it without limit`],
  ['register_days', t`Senders, subjects and notes in the register`, t`days; 0 keeps them without limit`],
  ['kept_days', t`Files that were replaced or taken back`, t`days; 0 keeps them without limit`],
  ['audit_days', t`What people did`, t`days, at least 30; 0 keeps it without limit`],
  ['spool_mb', t`What waits here for a cabinet that is down`, 'MB'],
]
const caps: [Limit, string, string][] = [
  ['rule_files', t`A rule: files`, t`0 for no cap`],
  ['rule_mb', t`A rule: MB`, ''],
  ['rule_folders', t`A rule: new folders`, ''],
  ['sender_files', t`A sender: files`, ''],
  ['sender_mb', t`A sender: MB`, ''],
  ['sender_folders', t`A sender: new folders`, ''],
]
const connections: [Limit, string, string][] = [
  ['account_connections', t`One account`, t`2 at least; 0 for any number`],
  ['host_connections', t`One mail server`, t`2 at least; 0 for any number`],
]

/** How long things are kept, and how much is filed in an hour. */
export function LimitsOf() {
  const [open, setOpen] = useState(false)
  const query = useQuery(queries.limits)
  const days = (n: number) => (n ? plural(n, { one: '# day', other: '# days' }) : t`without limit`)
  const files = (n?: number) =>
    n ? plural(n, { one: 'at most # file', other: 'at most # files' }) : t`any number of files`
  const connections = (n?: number) =>
    n ? plural(n, { one: 'at most # connection', other: 'at most # connections' }) : t`any number of connections`
  return (
    <section className="mb-10 max-w-4xl">
      <div className="mb-2 flex items-center justify-between">
        <h2>
          <Trans>Limits</Trans>
        </h2>
        <Button disabled={!query.data} onClick={() => setOpen(true)}>
          <Trans>Change the limits</Trans>
        </Button>
      </div>
      <Listing query={query}>
        {(l) => (
          <div className="space-y-2 border-t border-line py-3 text-ink-2">
            <p>
              <Trans>
                Ink Tray keeps the history {days(l.history_days)}, senders and subjects in the register{' '}
                {days(l.register_days)}, files that were replaced or taken back {days(l.kept_days)}, and the record of
                what people did {days(l.audit_days ?? 0)}. Up to {l.spool_mb} MB wait here for a cabinet that is out of
                reach.
              </Trans>
            </p>
            <p>
              <Trans>
                In an hour a rule files {files(l.rule_files)}, and one sender gets {files(l.sender_files)} filed.
                Everything beyond waits in the tray. Old mail is not counted.
              </Trans>
            </p>
            <p>
              <Trans>
                One account has {connections(l.account_connections)} to its mail server, and one mail server{' '}
                {connections(l.host_connections)} in all. If more are needed, mailboxes take turns.
              </Trans>
            </p>
          </div>
        )}
      </Listing>
      {open && query.data && <LimitsSheet limits={query.data} onClose={() => setOpen(false)} />}
    </section>
  )
}

function LimitsSheet({ limits: { revision, ...values }, onClose }: { limits: Schemas['Limits']; onClose: () => void }) {
  const form = useSettings<typeof values, unknown>({
    values,
    revision,
    save: (s, on) => value(api.PUT('/api/v1/limits', { params: { header: ifMatch(on) }, body: s })),
    saved: onClose,
  })
  const numbers = (all: typeof kept) =>
    all.map(([k, label, hint]) => (
      <Field
        key={k}
        label={label}
        hint={hint}
        type="number"
        min={0}
        required
        {...form.bind(k, { valueAsNumber: true })}
      />
    ))
  return (
    <Sheet title={t`Limits`} open onClose={onClose}>
      <form onSubmit={form.submit}>
        <h3 className="mb-2 font-semibold">
          <Trans>Kept</Trans>
        </h3>
        {numbers(kept)}
        <h3 className="mb-2 font-semibold">
          <Trans>Filed in an hour, at most</Trans>
        </h3>
        <div className="grid gap-x-3 sm:grid-cols-3">{numbers(caps)}</div>
        <h3 className="mb-2 font-semibold">
          <Trans>Connections at once, at most</Trans>
        </h3>
        <div className="grid gap-x-3 sm:grid-cols-2">{numbers(connections)}</div>
        <End
          of={form}
          label={t`Save`}
          onClose={onClose}
          mine={form.now}
          look={() => value(api.GET('/api/v1/limits'))}
        />
      </form>
    </Sheet>
  )
}
