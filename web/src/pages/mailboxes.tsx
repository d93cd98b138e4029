import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'

import { api, Problem, type Schemas, value } from '../api/client'
import { Button, Field, Listing, Pick, Sheet, Wrong } from '../ui/basics'
import { many } from '../ui/format'
import { Meanwhile } from '../ui/meanwhile'

type Kind = NonNullable<Schemas['MailboxSettings']['kind']>

export const fieldError = (error: unknown, place: string) => (error instanceof Problem ? error.fields.find((f) => f.place === place || f.place.startsWith(place + '['))?.text : undefined)

/** Where a mailbox's mail lies, in words. */
export function whereItIs(m: Schemas['Mailbox']): string {
  switch (m.kind) {
    case 'drop': return m.address ? `receives mail at ${m.address}` : 'a drop address that is closed'
    case 'maildir': return `the mail folder ${m.path}`
    case 'files': return 'mail that is taken in from files'
  }
  return `${m.username} at ${m.host}${m.port ? `:${m.port}` : ''}, ${m.kind === 'pop3' ? 'POP3, ' : ''}${m.encryption === 'none' ? 'not encrypted' : m.encryption}`
}

/** Goes to where consent is given, and comes back. */
function useSignIn() {
  return useMutation({
    mutationFn: (id: string) => value(api.POST('/api/v1/mailboxes/{id}/consent', { params: { path: { id } }, body: { console: window.location.origin } })),
    onSuccess: (a) => window.location.assign(a.page),
  })
}

export function SignInAgain({ mailbox }: { mailbox: string }) {
  const go = useSignIn()
  return <><Wrong error={go.error} /><Button look="main" disabled={go.isPending} onClick={() => go.mutate(mailbox)}>Sign in again</Button></>
}

/** What can be done with one mailbox beside changing it. */
export function MailboxWays({ mailbox: m }: { mailbox: Schemas['Mailbox'] }) {
  const [address, setAddress] = useState(false)
  const go = useSignIn()
  if (m.kind === 'drop') return <><Button onClick={() => setAddress(true)}>Address</Button>{address && <DropSheet mailbox={m} onClose={() => setAddress(false)} />}</>
  if (m.sign_in) return <><Wrong error={go.error} /><Button look="main" disabled={go.isPending} onClick={() => go.mutate(m.id)}>Sign in</Button></>
  return null
}

/** Ends the pause after a failure. */
export function TryNow({ mailbox }: { mailbox: string }) {
  const client = useQueryClient()
  const go = useMutation({
    mutationFn: () => value(api.POST('/api/v1/mailboxes/{id}/try', { params: { path: { id: mailbox } } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ['mailboxes'] }),
  })
  return (
    <>
      <Wrong error={go.error} />
      <Button disabled={go.isPending} onClick={() => go.mutate()}>Try now</Button>
    </>
  )
}

/** What is lost and what stays when a mailbox is removed. */
export function MailboxRemains({ id }: { id: string }) {
  const remains = useQuery({
    queryKey: ['mailboxes', 'remains', id],
    queryFn: () => value(api.GET('/api/v1/mailboxes/{id}/remains', { params: { path: { id } } })),
  })
  return (
    <Listing query={remains}>
      {(r) => (
        <>
          {r.messages_only_here > 0 && (
            <p className="mb-3 rounded-lg bg-seal-soft px-4 py-3 text-seal">
              {many(r.messages_only_here, 'message')} that only Ink Tray keeps will be deleted for good.
            </p>
          )}
          {r.waiting > 0 && (
            <p className="mb-3 text-seal">
              {many(r.waiting, 'item')} waiting to be filed, or in the tray, will not be filed.
            </p>
          )}
          <p>
            Ink Tray stops watching the mailbox and forgets its password. {many(r.filed, 'filed file')} and the register stay.
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
    mutationFn: (what: 'renew' | 'close') => value(api.POST('/api/v1/mailboxes/{id}/address', { params: { path: { id: m.id } }, body: { what, word: what === 'renew' ? word : undefined } })),
    onSuccess: () => { void client.invalidateQueries({ queryKey: ['mailboxes'] }); onClose() },
  })
  return (
    <Sheet title={`The drop address “${m.name}”`} open onClose={onClose}>
      {m.address
        ? <><p className="rounded-lg bg-sheet-2 px-4 py-3 font-mono text-sm [overflow-wrap:anywhere]">{m.address}</p><p className="my-2 flex items-center justify-between gap-3 text-sm text-ink-2">{m.senders?.length ? `Only ${m.senders.join(', ')} may send to it, and must be proven.` : 'Whoever knows the address may send to it.'}<Button onClick={() => void navigator.clipboard?.writeText(m.address!).then(() => setCopied(true))}>{copied ? 'Copied' : 'Copy'}</Button></p></>
        : <p className="text-ink-2">It is closed and takes no mail. What came stays.</p>}
      <h2 className="mt-5 mb-2">{m.address ? 'A new address' : 'Open it again'}</h2>
      <Field label="Word to begin with" value={word} onChange={(e) => setWord(e.target.value)} hint="Letters, digits and hyphens. A part that nobody can guess follows it. The former address takes nothing any more." error={fieldError(change.error, 'word')} />
      {!fieldError(change.error, 'word') && <Wrong error={change.error} />}
      <div className="flex justify-end gap-2">{m.address && <Button look="seal" onClick={() => change.mutate('close')}>Close it</Button>}<Button look="main" disabled={change.isPending} onClick={() => change.mutate('renew')}>{m.address ? 'Renew' : 'Open'}</Button></div>
    </Sheet>
  )
}

const kinds: [Kind, string][] = [['imap', 'an account on a mail server (IMAP)'], ['pop3', 'an account on a mail server (POP3)'], ['drop', 'a drop address: Ink Tray receives'], ['maildir', 'a mail folder on this machine (Maildir)'], ['files', 'mail taken in from files']]

export function MailboxSheet({ mailbox, onClose }: { mailbox: Schemas['Mailbox'] | null; onClose: () => void }) {
  const client = useQueryClient()
  const [s, set] = useState(() => ({
    kind: (mailbox?.kind ?? 'imap') as Kind, name: mailbox?.name ?? '', host: mailbox?.host ?? '', port: mailbox?.port ? String(mailbox.port) : '', encryption: mailbox?.encryption || 'tls', username: mailbox?.username ?? '', secret: '',
    path: mailbox?.path ?? '', word: '', senders: mailbox?.senders?.join(', ') ?? '', leave: mailbox?.leave_days ? String(mailbox.leave_days) : '', interval: String(mailbox?.interval_seconds ?? 60),
    authority: mailbox?.authority ?? '', pinned: mailbox?.pinned ?? '', proxy: mailbox?.proxy ?? '',
    way: mailbox?.consent ? 'consent' : 'password', issuer: mailbox?.consent?.issuer ?? '', client: mailbox?.consent?.client_id ?? '', clientSecret: '', scopes: mailbox?.consent?.scopes?.join(' ') ?? '',
  }))
  const [from, setFrom] = useState(mailbox?.revision)
  const put = (change: Partial<typeof s>) => set((old) => ({ ...old, ...change }))
  const account = s.kind === 'imap' || s.kind === 'pop3'
  const receiving = useQuery({ queryKey: ['receiving'], queryFn: () => value(api.GET('/api/v1/receiving')), enabled: s.kind === 'drop' })
  const words = (text: string) => text.split(/[\s,;]+/).filter(Boolean)
  const body: Schemas['MailboxSettings'] = { name: s.name, kind: s.kind, port: 0, interval_seconds: Number(s.interval) || 60, encryption: s.encryption as 'tls' }
  if (account) {
    Object.assign(body, { host: s.host, port: Number(s.port) || 0, username: s.username, authority: s.authority || undefined, pinned: s.pinned || undefined, proxy: s.proxy || undefined, leave_days: s.kind === 'pop3' ? Number(s.leave) || 0 : undefined })
    if (s.way === 'consent') body.consent = { ...mailbox?.consent, client_id: s.client, issuer: s.issuer || undefined, client_secret: s.clientSecret || undefined, scopes: words(s.scopes) }
    else body.secret = s.secret || undefined
  } else if (s.kind === 'maildir') body.path = s.path
  else if (s.kind === 'drop') { body.senders = words(s.senders); if (!mailbox) body.word = s.word || undefined }
  const check = useMutation({ mutationFn: () => value(api.POST('/api/v1/mailboxes/check', { params: { query: { id: mailbox?.id } }, body })) })
  const find = useMutation({
    mutationFn: () => value(api.GET('/api/v1/mail-servers', { params: { query: { address: s.username } } })),
    onSuccess: (all) => { const one = all.find((f) => f.kind === s.kind) ?? all[0]; if (one) put({ kind: one.kind, host: one.host, port: String(one.port), encryption: one.encryption }) },
  })
  const save = useMutation({
    mutationFn: () => value(mailbox ? api.PUT('/api/v1/mailboxes/{id}', { params: { path: { id: mailbox.id }, header: { 'If-Match': `"${from}"` } }, body }) : api.POST('/api/v1/mailboxes', { body })),
    onSuccess: () => { void client.invalidateQueries(); onClose() },
  })
  // A kept password is sent only where it was given for: every part of the way to the server counts.
  const kept = !!mailbox && !mailbox.consent && s.host === mailbox.host && (Number(s.port) || 0) === mailbox.port && s.encryption === mailbox.encryption && s.username === mailbox.username
    && s.proxy === (mailbox.proxy ?? '') && s.pinned === (mailbox.pinned ?? '') && s.authority === (mailbox.authority ?? '')
  const placed = ['secret', 'name', 'path', 'word', 'senders', 'pinned', 'proxy', 'authority'].some((p) => fieldError(save.error, p))
  return (
    <Sheet title={mailbox ? `The mailbox “${mailbox.name}”` : 'Add a mailbox'} open onClose={onClose}>
      <form onSubmit={(e) => { e.preventDefault(); save.mutate() }}>
        {!mailbox && <Pick label="What it is" value={s.kind} onChange={(kind) => put({ kind: kind as Kind })} choices={kinds} />}
        <Field label="Name" required value={s.name} disabled={!!mailbox} onChange={(e) => put({ name: e.target.value })} hint="What you call it, such as gauges. Rules name it so." error={fieldError(save.error, 'name')} />
        {account && (
          <>
            <div className="grid grid-cols-[1fr_auto] items-start gap-3">
              <Field label="Sign in as" required autoComplete="off" value={s.username} onChange={(e) => put({ username: e.target.value })} hint={find.data?.length ? `${find.data[0].host} is what the domain publishes.` : 'Mostly the whole address.'} />
              <Button className="mt-6" disabled={!s.username.includes('@') || find.isPending} onClick={() => find.mutate()}>Find the server</Button>
            </div>
            <Wrong error={find.error} />
            <div className="grid grid-cols-[1fr_7rem] gap-3">
              <Field label="Mail server" required value={s.host} onChange={(e) => put({ host: e.target.value })} hint="such as imap.brackwater.example" />
              <Field label="Port" inputMode="numeric" pattern="[0-9]*" value={s.port} onChange={(e) => put({ port: e.target.value })} hint="or leave empty" />
            </div>
            <Pick label="Encryption" value={s.encryption} onChange={(encryption) => put({ encryption })} choices={[['tls', 'TLS, from the first byte (usual)'], ['starttls', 'STARTTLS'], ['none', 'none: the password can be read on the way']]} />
            <Pick label="How to sign in" value={s.way} onChange={(way) => put({ way })} choices={[['password', 'with a password'], ['consent', 'by consent in the browser (OAuth 2.0)']]} />
            {s.way === 'password'
              ? <Field label="Password" type="password" autoComplete="new-password" required={!kept} error={fieldError(check.error ?? save.error, 'secret')} value={s.secret} onChange={(e) => put({ secret: e.target.value })} hint={kept ? 'Leave empty to keep the one that is there.' : mailbox && !mailbox.consent ? 'The kept password was given for another way to the server: enter it again.' : 'Kept sealed; nobody can read it here again.'} />
              : (
                <>
                  <Field label="Who issues consent" required={!mailbox?.consent?.token} value={s.issuer} onChange={(e) => put({ issuer: e.target.value })} hint="such as https://sign-in.brackwater.example; its addresses are looked up" error={fieldError(save.error, 'consent.issuer')} />
                  <div className="grid gap-x-3 sm:grid-cols-2">
                    <Field label="Name of this program there" required value={s.client} onChange={(e) => put({ client: e.target.value })} hint="the client id" />
                    <Field label="Its secret, if it has one" type="password" autoComplete="new-password" value={s.clientSecret} onChange={(e) => put({ clientSecret: e.target.value })} />
                  </div>
                  <Field label="What to ask for" value={s.scopes} onChange={(e) => put({ scopes: e.target.value })} hint={`the scopes, with spaces between. The issuer must know this address: ${window.location.origin}/api/v1/consent`} />
                </>
              )}
            <details className="mb-4"><summary className="font-semibold text-pen">Certificates, proxy and times</summary>
              <div className="mt-3">
                <div className="mb-4"><label className="mb-1 block text-sm font-semibold">Certificate of the authority<textarea className="field mt-1 h-20 font-mono text-xs font-normal" value={s.authority} onChange={(e) => put({ authority: e.target.value })} placeholder="-----BEGIN CERTIFICATE-----" /></label>{fieldError(save.error, 'authority') && <p className="text-sm text-seal">{fieldError(save.error, 'authority')}</p>}</div>
                <Field label="Pinned certificate" value={s.pinned} onChange={(e) => put({ pinned: e.target.value })} hint="The SHA-256 fingerprint of the server’s own certificate; then only that one counts." error={fieldError(save.error, 'pinned')} />
                <Field label="Proxy" value={s.proxy} onChange={(e) => put({ proxy: e.target.value })} hint="socks5://host:port or http://host:port" error={fieldError(save.error, 'proxy')} />
                <div className="grid gap-x-3 sm:grid-cols-2">
                  <Field label="Look again after so many seconds" inputMode="numeric" pattern="[0-9]+" value={s.interval} onChange={(e) => put({ interval: e.target.value })} hint="where the server announces nothing" />
                  {s.kind === 'pop3' && <Field label="Leave on the server for so many days" inputMode="numeric" pattern="[0-9]*" value={s.leave} onChange={(e) => put({ leave: e.target.value })} hint="empty: for ever" />}
                </div>
              </div>
            </details>
          </>
        )}
        {s.kind === 'maildir' && <Field label="Folder" required value={s.path} onChange={(e) => put({ path: e.target.value })} hint="The whole path of the folder that holds cur, new and tmp, on the machine that runs Ink Tray." error={fieldError(save.error, 'path')} />}
        {s.kind === 'files' && <p className="mb-4 text-ink-2">Drop .eml and mbox files on the page Mail. Rules meet them there like any mail.</p>}
        {s.kind === 'drop' && (
          <>
            {receiving.data && !receiving.data.domain && <p role="alert" className="my-3 rounded-lg bg-ochre-soft px-4 py-3 text-ochre">This service receives no mail. Whoever runs it starts it with a domain for drop addresses.</p>}
            {!mailbox && <Field label="Word to begin with" value={s.word} onChange={(e) => put({ word: e.target.value })} hint={`such as gauges; a part that nobody can guess follows${receiving.data?.domain ? `, then @${receiving.data.domain}` : ''}`} error={fieldError(save.error, 'word')} />}
            <Field label="Who may send to it" value={s.senders} onChange={(e) => put({ senders: e.target.value })} hint="Addresses and domains, with commas between; they must be proven by DKIM or SPF. Empty: whoever knows the address." error={fieldError(save.error, 'senders')} />
          </>
        )}
        {check.data && (
          <ol aria-label="Check" ref={(e) => e?.scrollIntoView({ block: 'nearest' })} className="mb-4 rounded-lg bg-sheet-2 px-4 py-2 text-sm">
            {check.data.map((c) => <li key={c.step} className="grid grid-cols-[6.5rem_1fr_auto] gap-2 py-1"><span className="font-semibold">{c.step}</span><span className="[overflow-wrap:anywhere] text-ink-2">{c.detail}{c.advice && <><br /><span className="text-seal">{c.advice}</span></>}</span><span className={c.ok ? 'text-moss' : 'text-seal'}>{c.ok ? 'works' : 'fails'}</span></li>)}
          </ol>
        )}
        {check.error ? <Wrong error={check.error} /> : !placed && <Meanwhile error={save.error} mine={{ ...body, secret: undefined }} look={() => value(api.GET('/api/v1/mailboxes')).then((l) => l.find((x) => x.id === mailbox?.id))} onMine={(t) => { setFrom(t.revision); save.reset() }} onTheirs={onClose} />}
        <div className="flex justify-between">
          {account || s.kind === 'maildir' ? <Button onClick={() => check.mutate()} disabled={check.isPending || (account ? !s.host || (s.way === 'consent' && !mailbox) : !s.path)}>{check.isPending ? 'Checking…' : 'Check'}</Button> : <span />}
          <div className="flex gap-2"><Button onClick={onClose}>Cancel</Button><Button look="main" type="submit" disabled={save.isPending}>{mailbox ? 'Save' : 'Add'}</Button></div>
        </div>
      </form>
    </Sheet>
  )
}
