import { t } from '@lingui/core/macro'
import { Plural, Trans } from '@lingui/react/macro'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'

import { api, ifMatch, type Schemas, value } from '../api/client'
import { keys, queries } from '../api/queries'
import { Button, Field, Lines, Listing, Pick, Sheet, Wrong } from '../ui/basics'
import { FolderField } from '../ui/folderpicker'
import { End, placed, useSettings } from '../ui/form'
import { useOwnAddress } from '../ui/office'

/** Whether a mailbox is an account on a mail server. */
export const onServer = (kind: string) => kind === 'imap' || kind === 'pop3' || kind === 'jmap'

type Kind = NonNullable<Schemas['MailboxSettings']['kind']>

/** Where a mailbox's mail lies, in words. */
export function whereItIs(m: Schemas['Mailbox']): string {
  switch (m.kind) {
    case 'drop':
      return m.address ? t`receives mail at ${m.address}` : t`a drop address that is closed`
    case 'maildir':
      return t`the mail folder ${m.path ?? ''}`
    case 'files':
      return t`mail from files`
  }
  return t`${m.username ?? ''} at ${m.host ?? ''}${m.port ? `:${m.port}` : ''}, ${m.kind === 'imap' ? '' : `${m.kind.toUpperCase()}, `}${m.encryption === 'none' ? t`not encrypted` : m.encryption}`
}

/** Goes to where consent is given, and comes back. */
function useSignIn() {
  const own = useOwnAddress()
  return useMutation({
    mutationFn: (id: string) =>
      value(
        api.POST('/api/v1/mailboxes/{id}/consent', {
          params: { path: { id } },
          body: { console: own },
        }),
      ),
    onSuccess: (a) => window.location.assign(a.page),
  })
}

export function SignInAgain({ mailbox }: { mailbox: string }) {
  const go = useSignIn()
  return (
    <>
      <Wrong error={go.error} />
      <Button look="main" disabled={go.isPending} onClick={() => go.mutate(mailbox)}>
        <Trans>Sign in again</Trans>
      </Button>
    </>
  )
}

/** What can be done with one mailbox beside changing it. */
export function MailboxWays({ mailbox: m }: { mailbox: Schemas['Mailbox'] }) {
  const [address, setAddress] = useState(false)
  const go = useSignIn()
  if (m.kind === 'drop')
    return (
      <>
        <Button onClick={() => setAddress(true)}>
          <Trans>Address</Trans>
        </Button>
        {address && <DropSheet mailbox={m} onClose={() => setAddress(false)} />}
      </>
    )
  if (m.sign_in)
    return (
      <>
        <Wrong error={go.error} />
        <Button look="main" disabled={go.isPending} onClick={() => go.mutate(m.id)}>
          <Trans>Sign in</Trans>
        </Button>
      </>
    )
  return null
}

/** Ends the pause after a failure. */
export function TryNow({ mailbox }: { mailbox: string }) {
  const client = useQueryClient()
  const go = useMutation({
    mutationFn: () => value(api.POST('/api/v1/mailboxes/{id}/try', { params: { path: { id: mailbox } } })),
    onSuccess: () => client.invalidateQueries({ queryKey: keys.mailboxes }),
  })
  return (
    <>
      <Wrong error={go.error} />
      <Button disabled={go.isPending} onClick={() => go.mutate()}>
        <Trans>Try now</Trans>
      </Button>
    </>
  )
}

/** What is lost and what stays when a mailbox is removed. */
export function MailboxRemains({ id }: { id: string }) {
  const remains = useQuery(queries.mailboxRemains(id))
  return (
    <Listing query={remains}>
      {(r) => (
        <>
          {r.messages_only_here > 0 && (
            <p className="mb-3 rounded-lg bg-seal-soft px-4 py-3 text-seal">
              <Trans>
                <Plural value={r.messages_only_here} one="# message" other="# messages" /> that only Ink Tray keeps will
                be deleted for good.
              </Trans>
            </p>
          )}
          {r.waiting > 0 && (
            <p className="mb-3 text-seal">
              <Trans>
                <Plural value={r.waiting} one="# item" other="# items" /> waiting to be filed, or in the tray, will not
                be filed.
              </Trans>
            </p>
          )}
          <p>
            <Trans>
              Ink Tray stops watching the mailbox and forgets its password.{' '}
              <Plural value={r.filed} one="# filed file" other="# filed files" /> and the register stay.
            </Trans>
          </p>
        </>
      )}
    </Listing>
  )
}

function DropSheet({ mailbox: m, onClose }: { mailbox: Schemas['Mailbox']; onClose: () => void }) {
  const client = useQueryClient()
  const [word, setWord] = useState(m.word ?? '')
  const [copied, setCopied] = useState(false)
  const change = useMutation({
    mutationFn: (what: 'renew' | 'close') =>
      value(
        api.POST('/api/v1/mailboxes/{id}/address', {
          params: { path: { id: m.id } },
          body: { what, word: what === 'renew' ? word : undefined },
        }),
      ),
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: keys.mailboxes })
      onClose()
    },
  })
  return (
    <Sheet title={t`The drop address “${m.name}”`} open onClose={onClose}>
      {m.address ? (
        <>
          <p className="rounded-lg bg-sheet-2 px-4 py-3 font-mono text-sm [overflow-wrap:anywhere]">{m.address}</p>
          <p className="my-2 flex items-center justify-between gap-3 text-sm text-ink-2">
            {m.senders?.length
              ? t`Only ${m.senders.join(', ')} may send to it, if the sender is verified.`
              : t`Anyone who knows the address may send to it.`}
            <Button onClick={() => void navigator.clipboard?.writeText(m.address!).then(() => setCopied(true))}>
              {copied ? t`Copied` : t`Copy`}
            </Button>
          </p>
        </>
      ) : (
        <p className="text-ink-2">
          <Trans>This address is closed and takes no mail. Mail that came before stays.</Trans>
        </p>
      )}
      <h2 className="mt-5 mb-2">{m.address ? t`A new address` : t`Open it again`}</h2>
      <Field
        label={t`Word to begin with`}
        value={word}
        onChange={(e) => setWord(e.target.value)}
        hint={t`Letters, digits and hyphens. Ink Tray adds a part that nobody can guess. The former address then takes no mail.`}
        error={placed(change.error, ['word']).get('word')}
      />
      {!placed(change.error, ['word']).size && <Wrong error={change.error} />}
      <div className="flex justify-end gap-2">
        {m.address && (
          <Button look="seal" onClick={() => change.mutate('close')}>
            <Trans>Close address </Trans>
          </Button>
        )}
        <Button look="main" disabled={change.isPending} onClick={() => change.mutate('renew')}>
          {m.address ? t`Renew` : t`Open`}
        </Button>
      </div>
    </Sheet>
  )
}

const kinds: [Kind, string][] = [
  ['imap', t`an account on a mail server (IMAP)`],
  ['jmap', t`an account on a mail server (JMAP)`],
  ['pop3', t`an account on a mail server (POP3)`],
  ['drop', t`a drop address: Ink Tray receives the mail itself`],
  ['maildir', t`a mail folder on this machine (Maildir)`],
  ['files', t`mail from files that you drop here`],
]

/** A mailbox as it is typed. */
const typed = (m: Schemas['Mailbox'] | null) => ({
  kind: (m?.kind ?? 'imap') as Kind,
  name: m?.name ?? '',
  host: m?.host ?? '',
  port: m?.port ? String(m.port) : '',
  encryption: (m?.encryption || 'tls') as NonNullable<Schemas['MailboxSettings']['encryption']>,
  username: m?.username ?? '',
  secret: '',
  path: m?.path ?? '',
  word: '',
  senders: m?.senders?.join(', ') ?? '',
  leave: m?.leave_days ? String(m.leave_days) : '',
  interval: String(m?.interval_seconds ?? 60),
  authority: m?.authority ?? '',
  pinned: m?.pinned ?? '',
  proxy: m?.proxy ?? '',
  way: m?.consent ? 'consent' : 'password',
  issuer: m?.consent?.issuer ?? '',
  client: m?.consent?.client_id ?? '',
  clientSecret: '',
  scopes: m?.consent?.scopes?.join(' ') ?? '',
})
type Typed = ReturnType<typeof typed>

const isAccount = (s: Typed) => onServer(s.kind)

/** What is typed, as the service takes it. */
function settings(s: Typed, mailbox: Schemas['Mailbox'] | null): Schemas['MailboxSettings'] {
  const words = (text: string) => text.split(/[\s,;]+/).filter(Boolean)
  const all = {
    name: s.name,
    kind: s.kind,
    port: 0,
    interval_seconds: Number(s.interval) || 60,
    encryption: s.encryption,
  }
  if (s.kind === 'maildir') return { ...all, path: s.path }
  if (s.kind === 'drop') return { ...all, senders: words(s.senders), word: mailbox ? undefined : s.word || undefined }
  if (!isAccount(s)) return all
  const account = {
    ...all,
    host: s.host,
    port: Number(s.port) || 0,
    username: s.username,
    authority: s.authority || undefined,
    pinned: s.pinned || undefined,
    proxy: s.proxy || undefined,
    leave_days: s.kind === 'pop3' ? Number(s.leave) || 0 : undefined,
  }
  if (s.way === 'password') return { ...account, secret: s.secret || undefined }
  return {
    ...account,
    consent: {
      ...mailbox?.consent,
      client_id: s.client,
      issuer: s.issuer || undefined,
      client_secret: s.clientSecret || undefined,
      scopes: words(s.scopes),
    },
  }
}

/** A kept password is sent only where it was given for: every part of the way to the server counts. */
const keeps = (s: Typed, m: Schemas['Mailbox'] | null) =>
  !!m &&
  !m.consent &&
  s.kind === m.kind &&
  s.host === m.host &&
  (Number(s.port) || 0) === m.port &&
  s.encryption === m.encryption &&
  s.username === m.username &&
  s.proxy === (m.proxy ?? '') &&
  s.pinned === (m.pinned ?? '') &&
  s.authority === (m.authority ?? '')

export function MailboxSheet({ mailbox, onClose }: { mailbox: Schemas['Mailbox'] | null; onClose: () => void }) {
  const own = useOwnAddress()
  const [inSpite, setInSpite] = useState(false)
  const form = useSettings<Typed, unknown>({
    values: typed(mailbox),
    revision: mailbox?.revision,
    save: async (s, revision) => {
      const body = settings(s, mailbox)
      // A new mailbox is tried first, unless it failed a moment ago and is added in spite of it.
      if (!mailbox && !inSpite && (s.kind === 'maildir' || (isAccount(s) && s.way === 'password'))) {
        const steps = await check.mutateAsync()
        if (steps.some((c) => !c.ok)) {
          setInSpite(true)
          throw new Error(
            t`The mailbox was not added, because the check failed. Correct the settings, or add it anyway`,
          )
        }
      }
      return value<unknown>(
        mailbox
          ? api.PUT('/api/v1/mailboxes/{id}', {
              params: { path: { id: mailbox.id }, header: ifMatch(revision) },
              body,
            })
          : api.POST('/api/v1/mailboxes', { body }),
      )
    },
    saved: onClose,
    names: { 'consent.issuer': 'issuer', 'consent.client_id': 'client', 'consent.scopes': 'scopes' },
  })
  const { bind, held, now: s, set } = form
  const body = settings(s, mailbox)
  const receiving = useQuery({ ...queries.receiving, enabled: s.kind === 'drop' })
  const check = useMutation({
    mutationFn: () => value(api.POST('/api/v1/mailboxes/check', { params: { query: { id: mailbox?.id } }, body })),
    onError: (e) => form.place(e),
  })
  const find = useMutation({
    mutationFn: () => value(api.GET('/api/v1/mail-servers', { params: { query: { address: s.username } } })),
    onSuccess: (all) => {
      const one = all.find((f) => f.kind === s.kind) ?? all[0]
      if (!one) return
      set('kind', one.kind)
      set('host', one.host)
      set('port', String(one.port))
      set('encryption', one.encryption)
    },
  })
  return (
    <Sheet title={mailbox ? t`The mailbox “${mailbox.name}”` : t`Add a mailbox`} open onClose={onClose}>
      <form onSubmit={form.submit} onChange={() => setInSpite(false)}>
        {!mailbox && <Pick label={t`What it is`} choices={kinds} {...held('kind')} />}
        {mailbox && (mailbox.kind === 'imap' || mailbox.kind === 'jmap') && (
          <Pick
            label={t`How it is read`}
            hint={t`Both show the same mail: nothing is filed twice. The messages get new numbers.`}
            choices={
              [
                ['imap', t`over IMAP`],
                ['jmap', t`over JMAP`],
              ] as [Kind, string][]
            }
            value={s.kind}
            onChange={(kind) => {
              set('kind', kind)
              set('port', kind === mailbox.kind && mailbox.port ? String(mailbox.port) : '')
              if (s.encryption === 'starttls') set('encryption', 'tls')
            }}
          />
        )}
        <Field
          label={t`Name`}
          required
          readOnly={!!mailbox}
          hint={t`Any name, such as gauges. Rules use it.`}
          {...bind('name')}
        />
        {isAccount(s) && (
          <>
            <div className="grid grid-cols-[1fr_auto] items-start gap-3">
              <Field
                label={t`Sign in as`}
                required
                autoComplete="off"
                hint={
                  find.data?.length ? t`The domain names ${find.data[0].host}.` : t`Usually the whole mail address.`
                }
                {...bind('username')}
              />
              <Button
                className="mt-6"
                disabled={!s.username.includes('@') || find.isPending}
                onClick={() => find.mutate()}
              >
                <Trans>Find the server</Trans>
              </Button>
            </div>
            <Wrong error={find.error} />
            <div className="grid grid-cols-[1fr_7rem] gap-3">
              <Field label={t`Mail server`} required hint={t`such as imap.brackwater.example`} {...bind('host')} />
              <Field label={t`Port`} inputMode="numeric" pattern="[0-9]*" hint={t`or leave empty`} {...bind('port')} />
            </div>
            <Pick
              label={t`Encryption`}
              choices={[
                ['tls', t`TLS, from the first byte (usual)`],
                ...(s.kind === 'jmap' ? [] : [['starttls', 'STARTTLS'] as [typeof s.encryption, string]]),
                ['none', t`none: the password can be read on the way`],
              ]}
              {...held('encryption')}
            />
            <Pick
              label={t`How to sign in`}
              choices={[
                ['password', t`with a password`],
                ['consent', t`in the browser (OAuth 2.0)`],
              ]}
              {...held('way')}
            />
            {s.way === 'password' ? (
              <Field
                label={t`Password`}
                type="password"
                autoComplete="new-password"
                required={!keeps(s, mailbox)}
                hint={
                  keeps(s, mailbox)
                    ? t`Leave empty to keep it.`
                    : mailbox && !mailbox.consent
                      ? t`The server or the way to it changed. Enter the password again.`
                      : t`Ink Tray keeps it encrypted and never shows it.`
                }
                {...bind('secret')}
              />
            ) : (
              <>
                <Field
                  label={t`Sign-in server`}
                  required={!mailbox?.consent?.token}
                  hint={t`such as https://sign-in.brackwater.example`}
                  {...bind('issuer')}
                />
                <div className="grid gap-x-3 sm:grid-cols-2">
                  <Field label={t`Name of Ink Tray there`} required hint={t`the client id`} {...bind('client')} />
                  <Field
                    label={t`Its secret, if it has one`}
                    type="password"
                    autoComplete="new-password"
                    {...bind('clientSecret')}
                  />
                </div>
                <Field
                  label={t`Permissions to ask for`}
                  hint={t`the scopes, separated by spaces. The sign-in server must allow this address: ${own}/api/v1/consent`}
                  {...bind('scopes')}
                />
              </>
            )}
            <details className="mb-4">
              <summary className="font-semibold text-pen">
                <Trans>Certificates, proxy and times</Trans>
              </summary>
              <div className="mt-3">
                <Lines
                  label={t`Certificate of the authority`}
                  code
                  placeholder={t`-----BEGIN CERTIFICATE-----`}
                  {...bind('authority')}
                />
                <Field
                  label={t`Pinned certificate`}
                  hint={t`The SHA-256 fingerprint of the server’s certificate. Ink Tray then accepts only this one.`}
                  {...bind('pinned')}
                />
                <Field label={t`Proxy`} hint={t`socks5://host:port or http://host:port`} {...bind('proxy')} />
                <div className="grid gap-x-3 sm:grid-cols-2">
                  <Field
                    label={t`Seconds between two checks`}
                    inputMode="numeric"
                    pattern="[0-9]+"
                    hint={t`used if the server does not announce new mail`}
                    {...bind('interval')}
                  />
                  {s.kind === 'pop3' && (
                    <Field
                      label={t`Days that messages stay on the server`}
                      inputMode="numeric"
                      pattern="[0-9]*"
                      hint={t`empty: they are never removed`}
                      {...bind('leave')}
                    />
                  )}
                </div>
              </div>
            </details>
          </>
        )}
        {s.kind === 'maildir' && (
          <FolderField
            label={t`Folder`}
            required
            hint={t`The whole path of the folder that holds cur, new and tmp, on the machine that runs Ink Tray.`}
            {...bind('path')}
            path={s.path}
            onChoose={(p) => set('path', p)}
          />
        )}
        {s.kind === 'files' && (
          <p className="mb-4 text-ink-2">
            <Trans>Drop .eml and mbox files on the page Mail. Rules then apply to them as to any mail.</Trans>
          </p>
        )}
        {s.kind === 'drop' && (
          <>
            {receiving.data && !receiving.data.domain && (
              <p role="alert" className="my-3 rounded-lg bg-ochre-soft px-4 py-3 text-ochre">
                <Trans>This Ink Tray receives no mail. The person who runs it starts it with --drop-domain.</Trans>
              </p>
            )}
            {!mailbox && (
              <Field
                label={t`Word to begin with`}
                hint={t`such as gauges; a part that nobody can guess follows${receiving.data?.domain ? t`, then @${receiving.data.domain}` : ''}`}
                {...bind('word')}
              />
            )}
            <Field
              label={t`Who may send to it`}
              hint={t`Addresses and domains, separated by commas. They must be verified by DKIM or SPF. Empty: anyone who knows the address.`}
              {...bind('senders')}
            />
          </>
        )}
        {check.data && (
          <ol
            aria-label={t`Check`}
            ref={(e) => e?.scrollIntoView({ block: 'nearest' })}
            className="mb-4 rounded-lg bg-sheet-2 px-4 py-2 text-sm"
          >
            {check.data.map((c) => (
              <li key={c.step} className="grid grid-cols-[6.5rem_1fr_auto] gap-2 py-1">
                <span className="font-semibold">{c.step}</span>
                <span className="[overflow-wrap:anywhere] text-ink-2">
                  {c.detail}
                  {c.advice && (
                    <>
                      <br />
                      <span className="text-seal">{c.advice}</span>
                    </>
                  )}
                </span>
                <span className={c.ok ? 'text-moss' : 'text-seal'}>{c.ok ? t`works` : t`fails`}</span>
              </li>
            ))}
          </ol>
        )}
        <Wrong error={check.error} />
        <End
          of={form}
          label={mailbox ? t`Save` : inSpite ? t`Add anyway` : t`Add`}
          busy={mailbox ? undefined : t`Checking…`}
          onClose={onClose}
          mine={{ ...body, secret: undefined }}
          look={() => value(api.GET('/api/v1/mailboxes')).then((l) => l.find((x) => x.id === mailbox?.id))}
          beside={
            (isAccount(s) || s.kind === 'maildir') && (
              <Button
                onClick={() => check.mutate()}
                disabled={check.isPending || (isAccount(s) ? !s.host || (s.way === 'consent' && !mailbox) : !s.path)}
              >
                {check.isPending ? t`Checking…` : t`Check`}
              </Button>
            )
          }
        />
      </form>
    </Sheet>
  )
}
