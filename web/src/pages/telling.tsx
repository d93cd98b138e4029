import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'

import { api, Problem, type Schemas, value } from '../api/client'
import { Tick } from '../letter/blanks'
import { Button, Chip, Field, Listing, Pick, Sheet, Wrong } from '../ui/basics'
import { when } from '../ui/format'
import { Meanwhile } from '../ui/meanwhile'

const fieldError = (error: unknown, place: string) => (error instanceof Problem ? error.fields.find((f) => f.place === place)?.text : undefined)
const told = { never: 'is not told of the tray', 'at once': 'is told of the tray at once', daily: 'gets the tray daily' }

/** Outgoing mail, people who are told, alarms and limits. */
export function Telling() {
  return <><OutgoingMail /><Addressees /><Alarms /><LimitsOf /></>
}

function OutgoingMail() {
  const client = useQueryClient()
  const [open, setOpen] = useState(false)
  const query = useQuery({ queryKey: ['outgoing'], queryFn: () => value(api.GET('/api/v1/outgoing')), retry: false })
  const check = useMutation({ mutationFn: () => value(api.POST('/api/v1/outgoing/check')) })
  if (query.error instanceof Problem && query.error.status === 403) return null
  return (
    <section className="mb-10 max-w-4xl">
      <div className="mb-2 flex items-center justify-between"><h2>Outgoing mail</h2><Button onClick={() => setOpen(true)}>{query.data?.host ? 'Change how mail is sent' : 'Set up outgoing mail'}</Button></div>
      <Listing query={query} empty={(o) => !o.host && 'No mail is sent yet. Replies, digests and alarms by mail need it.'}>
        {(o) => (
          <div className="flex flex-wrap items-start justify-between gap-3 border-t border-line py-3">
            <p className="min-w-0 [overflow-wrap:anywhere]"><span className="font-semibold">{o.name || o.from}</span> <span className="text-ink-2">{o.name && `${o.from} `}by {o.host}{o.port ? `:${o.port}` : ''}, {o.encryption === 'none' ? 'not encrypted' : o.encryption}</span></p>
            <Button onClick={() => check.mutate()} disabled={check.isPending}>Check outgoing mail</Button>
          </div>
        )}
      </Listing>
      {check.data && <p role="status" className={check.data.ok ? 'text-moss' : 'text-seal'}>{check.data.text.replace(/\.$/, '')}. {check.data.advice}</p>}
      {open && query.data && <OutgoingSheet o={query.data} onClose={() => { setOpen(false); check.reset(); void client.invalidateQueries({ queryKey: ['outgoing'] }) }} />}
    </section>
  )
}

function OutgoingSheet({ o, onClose }: { o: Schemas['Outgoing']; onClose: () => void }) {
  const [s, set] = useState({ host: o.host, port: o.port ? String(o.port) : '', encryption: o.encryption || 'starttls', username: o.username, password: '', from: o.from, name: o.name, console: o.console || window.location.origin })
  const [from, setFrom] = useState(o.revision)
  const put = (key: keyof typeof s) => (e: { target: { value: string } }) => set({ ...s, [key]: e.target.value })
  const save = useMutation({
    mutationFn: () => value(api.PUT('/api/v1/outgoing', { params: { header: { 'If-Match': `"${from}"` } }, body: { ...s, port: Number(s.port) || 0, encryption: s.encryption as 'tls', password: s.password || undefined } })),
    onSuccess: onClose,
  })
  const placed = ['host', 'from', 'console'].some((p) => fieldError(save.error, p))
  return (
    <Sheet title="How mail is sent" open onClose={onClose}>
      <form onSubmit={(e) => { e.preventDefault(); save.mutate() }}>
        <div className="grid grid-cols-[1fr_7rem] gap-3">
          <Field label="Mail server" value={s.host} onChange={put('host')} hint="such as smtp.brackwater.example; empty sends no mail" error={fieldError(save.error, 'host')} />
          <Field label="Port" inputMode="numeric" pattern="[0-9]*" value={s.port} onChange={put('port')} hint="or leave empty" />
        </div>
        <Pick label="Encryption" value={s.encryption} onChange={(encryption) => set({ ...s, encryption })} choices={[['starttls', 'STARTTLS (usual, port 587)'], ['tls', 'TLS, from the first byte (port 465)'], ['none', 'none: the password can be read on the way']]} />
        <div className="grid gap-x-3 sm:grid-cols-2">
          <Field label="Sign in as" autoComplete="off" value={s.username} onChange={put('username')} hint="Empty where the server asks for nobody." />
          <Field label="Password" type="password" autoComplete="new-password" value={s.password} onChange={put('password')} hint={o.has_password ? 'Leave empty to keep the one that is there, if the server, its port, the encryption and the name stay the same.' : 'Kept sealed.'} error={fieldError(save.error, 'password')} />
          <Field label="Sender’s address" value={s.from} onChange={put('from')} error={fieldError(save.error, 'from')} />
          <Field label="Sender’s name" value={s.name} onChange={put('name')} />
        </div>
        <Field label="Address of Ink Tray, for links" value={s.console} onChange={put('console')} error={fieldError(save.error, 'console')} />
        {!placed && <Meanwhile error={save.error} mine={{ ...s, port: Number(s.port) || 0, password: undefined }} look={() => value(api.GET('/api/v1/outgoing'))} onMine={(t) => { setFrom(t.revision); save.reset() }} onTheirs={onClose} />}
        <div className="flex justify-end gap-2"><Button onClick={onClose}>Cancel</Button><Button look="main" type="submit" disabled={save.isPending}>Save</Button></div>
      </form>
    </Sheet>
  )
}

function Addressees() {
  const client = useQueryClient()
  const [editing, setEditing] = useState<Schemas['Addressee'] | 'new' | null>(null)
  const [tried, setTried] = useState<Record<string, Schemas['Trial']>>({})
  const query = useQuery({ queryKey: ['addressees'], queryFn: () => value(api.GET('/api/v1/addressees')) })
  const trial = useMutation({ mutationFn: (id: string) => value(api.POST('/api/v1/addressees/{id}/trial', { params: { path: { id } } })), onSuccess: (t, id) => setTried((all) => ({ ...all, [id]: t })) })
  const remove = useMutation({ mutationFn: (id: string) => value(api.DELETE('/api/v1/addressees/{id}', { params: { path: { id } } })), onSuccess: () => client.invalidateQueries({ queryKey: ['addressees'] }) })
  return (
    <section className="mb-10 max-w-4xl">
      <div className="mb-2 flex items-center justify-between"><h2>People who are told</h2><Button onClick={() => setEditing('new')}>Add somebody</Button></div>
      <Wrong error={trial.error ?? remove.error} />
      <Listing query={query} empty={(a) => a.length === 0 && 'Nobody is told yet. Rules tell them what was filed, alarms what was not; and they can be told what waits in the tray.'}>
        {(all) => all.map((a) => (
          <div key={a.id} className="flex flex-wrap items-start justify-between gap-3 border-t border-line py-3">
            <div className="min-w-0">
              <p className="[overflow-wrap:anywhere]"><span className="font-semibold">{a.name}</span> <span className="text-ink-2">{a.kind === 'mail' ? a.addresses.join(', ') : `called at ${a.url}`}</span></p>
              <p className="text-sm text-ink-3">{told[a.tray]}{a.tray === 'daily' && ` at ${a.daily_at}`}{a.kind === 'call' && !a.has_secret && '; the calls are not signed'}</p>
              {tried[a.id] && <p role="status" className={`text-sm ${tried[a.id].ok ? 'text-moss' : 'text-seal'}`}>{tried[a.id].text.replace(/\.$/, '')}. {tried[a.id].advice}</p>}
            </div>
            <div className="flex items-center gap-2"><Chip word={a.kind === 'mail' ? 'mail' : 'call'} /><Button onClick={() => trial.mutate(a.id)} disabled={trial.isPending}>Try</Button><Button onClick={() => setEditing(a)}>Change</Button><Button onClick={() => remove.mutate(a.id)}>Remove</Button></div>
          </div>
        ))}
      </Listing>
      {editing && <AddresseeSheet a={editing === 'new' ? null : editing} onClose={() => setEditing(null)} />}
    </section>
  )
}

function AddresseeSheet({ a, onClose }: { a: Schemas['Addressee'] | null; onClose: () => void }) {
  const client = useQueryClient()
  const [from, setFrom] = useState(a?.revision)
  const [name, setName] = useState(a?.name ?? '')
  const [kind, setKind] = useState<'mail' | 'call'>(a?.kind ?? 'mail')
  const [addresses, setAddresses] = useState(a?.addresses.join(', ') ?? '')
  const [url, setUrl] = useState(a?.url ?? '')
  const [secret, setSecret] = useState('')
  const [inside, setInside] = useState(a?.inside ?? false)
  const [tray, setTray] = useState<'never' | 'at once' | 'daily'>(a?.tray ?? 'never')
  const [dailyAt, setDailyAt] = useState(a?.daily_at ?? '08:00')
  const body = { name, kind, addresses: kind === 'mail' ? addresses.split(',').map((x) => x.trim()).filter(Boolean) : [], url: kind === 'call' ? url : '', secret: kind === 'call' && secret ? secret : undefined, inside, tray, daily_at: dailyAt }
  const save = useMutation({
    mutationFn: () => value(a ? api.PUT('/api/v1/addressees/{id}', { params: { path: { id: a.id }, header: { 'If-Match': `"${from}"` } }, body }) : api.POST('/api/v1/addressees', { body })),
    onSuccess: () => { void client.invalidateQueries({ queryKey: ['addressees'] }); onClose() },
  })
  const placed = ['name', 'addresses', 'url', 'daily_at'].some((p) => fieldError(save.error, p))
  return (
    <Sheet title={a ? `“${a.name}”` : 'Add somebody who is told'} open onClose={onClose}>
      <form onSubmit={(e) => { e.preventDefault(); save.mutate() }}>
        <Field label="Name" required disabled={!!a} value={name} onChange={(e) => setName(e.target.value)} hint="Rules and alarms name them so." error={fieldError(save.error, 'name')} />
        <Pick label="How" value={kind} onChange={(k) => setKind(k as 'mail')} choices={[['mail', 'by mail'], ['call', 'by a call to a program (CloudEvents over HTTP)']]} />
        {kind === 'mail'
          ? <Field label="Addresses" required value={addresses} onChange={(e) => setAddresses(e.target.value)} hint="Several are parted by commas." error={fieldError(save.error, 'addresses')} />
          : <>
            <Field label="Address to call" required value={url} onChange={(e) => setUrl(e.target.value)} hint="https://…" error={fieldError(save.error, 'url')} />
            <Field label="Secret that signs the calls" type="password" autoComplete="new-password" value={secret} onChange={(e) => setSecret(e.target.value)} error={fieldError(save.error, 'secret')} hint={a?.has_secret ? 'Leave empty to keep the one that is there; another address needs it again.' : 'The other side proves by it that a call is ours (RFC 9421).'} />
            <div className="mb-4"><Tick label="the call may go to this machine’s own network" checked={inside} onChange={setInside} /></div>
          </>}
        <Pick label="What waits in the tray" value={tray} onChange={(t) => setTray(t as 'never')} choices={[['never', 'is not told'], ['at once', 'is told at once'], ['daily', 'is told once a day']]} />
        {tray === 'daily' && <Field label="Every day at" type="time" value={dailyAt} onChange={(e) => setDailyAt(e.target.value)} error={fieldError(save.error, 'daily_at')} />}
        {!placed && <Meanwhile error={save.error} mine={body} look={() => value(api.GET('/api/v1/addressees')).then((l) => l.find((x) => x.id === a?.id))} onMine={(t) => { setFrom(t.revision); save.reset() }} onTheirs={onClose} />}
        <div className="flex justify-end gap-2"><Button onClick={onClose}>Cancel</Button><Button look="main" type="submit" disabled={save.isPending}>{a ? 'Save' : 'Add'}</Button></div>
      </form>
    </Sheet>
  )
}

const days = ['monday', 'tuesday', 'wednesday', 'thursday', 'friday', 'saturday', 'sunday'] as const

function Alarms() {
  const client = useQueryClient()
  const [editing, setEditing] = useState<Schemas['Alarm'] | 'new' | null>(null)
  const query = useQuery({ queryKey: ['alarms'], queryFn: () => value(api.GET('/api/v1/alarms')) })
  const remove = useMutation({ mutationFn: (id: string) => value(api.DELETE('/api/v1/alarms/{id}', { params: { path: { id } } })), onSuccess: () => client.invalidateQueries({ queryKey: ['alarms'] }) })
  return (
    <section className="mb-10 max-w-4xl">
      <div className="mb-2 flex items-center justify-between"><h2>Alarms</h2><Button onClick={() => setEditing('new')}>Set an alarm</Button></div>
      <Wrong error={remove.error} />
      <Listing query={query} empty={(a) => a.length === 0 && 'No alarm is set. One tells somebody when a rule that should file is silent, or when a mailbox or a cabinet is out of reach.'}>
        {(all) => all.map((a) => (
          <div key={a.id} className="flex flex-wrap items-start justify-between gap-3 border-t border-line py-3">
            <div className="min-w-0 flex-1 basis-72"><p className="font-semibold">{a.name}</p><p className="text-ink-2">{a.sentence}</p>{a.rang_at && <p className="text-sm text-ink-3">last rang {when(a.rang_at)}</p>}</div>
            <div className="flex items-center gap-2"><Button onClick={() => setEditing(a)}>Change</Button><Button onClick={() => remove.mutate(a.id)}>Remove</Button></div>
          </div>
        ))}
      </Listing>
      {editing && <AlarmSheet a={editing === 'new' ? null : editing} onClose={() => setEditing(null)} />}
    </section>
  )
}

function AlarmSheet({ a, onClose }: { a: Schemas['Alarm'] | null; onClose: () => void }) {
  const client = useQueryClient()
  const rules = useQuery({ queryKey: ['rules'], queryFn: () => value(api.GET('/api/v1/rules')) })
  const people = useQuery({ queryKey: ['addressees'], queryFn: () => value(api.GET('/api/v1/addressees')) })
  const mailboxes = useQuery({ queryKey: ['mailboxes'], queryFn: () => value(api.GET('/api/v1/mailboxes')) })
  const cabinets = useQuery({ queryKey: ['cabinets'], queryFn: () => value(api.GET('/api/v1/cabinets')) })
  const [from, setFrom] = useState(a?.revision)
  const [name, setName] = useState(a?.name ?? '')
  const [kind, setKind] = useState<'silence' | 'out of reach'>(a?.kind ?? 'silence')
  const [rule, setRule] = useState(a?.rule ?? '')
  const [least, setLeast] = useState(String(a?.at_least || 1))
  const [within, setWithin] = useState(String(a?.within_hours || 24))
  const [by, setBy] = useState(a?.by_time || '10:00')
  const [on, setOn] = useState<string[]>(a?.weekdays ?? ['monday', 'tuesday', 'wednesday', 'thursday', 'friday'])
  const [place, setPlace] = useState(a?.mailbox ? `m ${a.mailbox}` : a?.cabinet ? `c ${a.cabinet}` : '')
  const [after, setAfter] = useState(String(a?.after_minutes || 60))
  const [who, setWho] = useState<string[]>(a?.who ?? [])
  const chosen = rule || rules.data?.[0]?.name || ''
  const body = kind === 'silence'
    ? { name, kind, rule: chosen, at_least: Number(least) || 1, within_hours: Number(within) || 24, by_time: by, weekdays: on.length === 7 ? [] : (on as (typeof days)[number][]), who }
    : { name, kind, mailbox: place.startsWith('m ') ? place.slice(2) : undefined, cabinet: place.startsWith('c ') ? place.slice(2) : undefined, after_minutes: Number(after) || 60, who }
  const save = useMutation({
    mutationFn: () => value(a ? api.PUT('/api/v1/alarms/{id}', { params: { path: { id: a.id }, header: { 'If-Match': `"${from}"` } }, body }) : api.POST('/api/v1/alarms', { body })),
    onSuccess: () => { void client.invalidateQueries({ queryKey: ['alarms'] }); onClose() },
  })
  const placed = ['name', 'by_time'].some((p) => fieldError(save.error, p))
  return (
    <Sheet title={a ? `The alarm “${a.name}”` : 'Set an alarm'} open onClose={onClose}>
      <form onSubmit={(e) => { e.preventDefault(); save.mutate() }}>
        <Field label="Name" required value={name} onChange={(e) => setName(e.target.value)} hint="such as: no tide readings" error={fieldError(save.error, 'name')} />
        <Pick label="It rings when" value={kind} onChange={(k) => setKind(k as 'silence')} choices={[['silence', 'a rule filed too little'], ['out of reach', 'a mailbox or a cabinet is out of reach']]} />
        {kind === 'silence' ? (
          <>
            <Pick label="Rule" value={chosen} onChange={setRule} choices={(rules.data ?? []).map((r) => [r.name, r.name])} />
            <div className="grid grid-cols-3 gap-3">
              <Field label="At least" type="number" min={1} value={least} onChange={(e) => setLeast(e.target.value)} hint="files" />
              <Field label="Within" type="number" min={1} value={within} onChange={(e) => setWithin(e.target.value)} hint="hours" />
              <Field label="By" type="time" value={by} onChange={(e) => setBy(e.target.value)} error={fieldError(save.error, 'by_time')} />
            </div>
            <fieldset className="mb-4"><legend className="mb-1 text-sm font-semibold">On</legend><div className="grid grid-cols-2 sm:grid-cols-4">{days.map((d) => <Tick key={d} label={d[0].toUpperCase() + d.slice(1)} checked={on.length === 0 || on.includes(d)} onChange={(yes) => setOn(days.filter((x) => (x === d ? yes : on.length === 0 || on.includes(x))))} />)}</div></fieldset>
          </>
        ) : (
          <>
            <Pick label="Which" value={place} onChange={setPlace} choices={[['', 'any mailbox or cabinet'], ...(mailboxes.data ?? []).map((m): [string, string] => [`m ${m.name}`, `the mailbox ${m.name}`]), ...(cabinets.data ?? []).map((c): [string, string] => [`c ${c.name}`, `the cabinet ${c.name}`])]} />
            <Field label="For longer than" type="number" min={1} value={after} onChange={(e) => setAfter(e.target.value)} hint="minutes" />
          </>
        )}
        <fieldset className="mb-4"><legend className="mb-1 text-sm font-semibold">Who is told</legend>
          {people.data?.length === 0 && <p className="text-ink-2">Nobody can be told yet: add somebody first.</p>}
          {people.data?.map((p) => <Tick key={p.id} label={p.name} checked={who.includes(p.name)} onChange={(yes) => setWho(yes ? [...who, p.name] : who.filter((x) => x !== p.name))} />)}
        </fieldset>
        {!placed && <Meanwhile error={save.error} mine={body} look={() => value(api.GET('/api/v1/alarms')).then((l) => l.find((x) => x.id === a?.id))} onMine={(t) => { setFrom(t.revision); save.reset() }} onTheirs={onClose} />}
        <div className="flex justify-end gap-2"><Button onClick={onClose}>Cancel</Button><Button look="main" type="submit" disabled={save.isPending || who.length === 0}>{a ? 'Save' : 'Set it'}</Button></div>
      </form>
    </Sheet>
  )
}

const kept: [keyof Schemas['Limits'], string, string][] = [['history_days', 'History', 'days; 0 keeps it for ever'], ['register_days', 'Senders, subjects and notes in the register', 'days; 0 keeps them for ever'], ['kept_days', 'Files that were replaced or taken back', 'days; 0 keeps them for ever'], ['spool_mb', 'What waits here for a cabinet that is down', 'MB']]
const caps: [keyof Schemas['Limits'], string, string][] = [['rule_files', 'A rule: files', '0 for no cap'], ['rule_mb', 'A rule: MB', ''], ['rule_folders', 'A rule: new folders', ''], ['sender_files', 'A sender: files', ''], ['sender_mb', 'A sender: MB', ''], ['sender_folders', 'A sender: new folders', '']]

function LimitsOf() {
  const client = useQueryClient()
  const [open, setOpen] = useState<Schemas['Limits'] | null>(null)
  const query = useQuery({ queryKey: ['limits'], queryFn: () => value(api.GET('/api/v1/limits')) })
  const save = useMutation({ mutationFn: (body: Schemas['Limits']) => value(api.PUT('/api/v1/limits', { params: { header: { 'If-Match': `"${body.revision}"` } }, body })), onSuccess: () => { setOpen(null); void client.invalidateQueries({ queryKey: ['limits'] }) } })
  const days = (n: number) => (n ? `${n} days` : 'for ever')
  return (
    <section className="mb-10 max-w-4xl">
      <div className="mb-2 flex items-center justify-between"><h2>Limits</h2><Button disabled={!query.data} onClick={() => query.data && setOpen(query.data)}>Change the limits</Button></div>
      <Listing query={query}>
        {(l) => (
          <p className="border-t border-line py-3 text-ink-2">History is kept {days(l.history_days)}, senders and subjects in the register {days(l.register_days)}, files that were replaced or taken back {days(l.kept_days)}. Up to {l.spool_mb} MB wait here for a cabinet that is down. In an hour a rule files at most {l.rule_files || 'any number of'} files, and one sender has at most {l.sender_files || 'any number'} filed; what is more waits in the tray. Old mail is not counted.</p>
        )}
      </Listing>
      <Sheet title="Limits" open={!!open} onClose={() => setOpen(null)}>
        {open && (
          <form onSubmit={(e) => { e.preventDefault(); save.mutate(open) }}>
            <h3 className="mb-2 font-semibold">Kept</h3>
            {kept.map(([k, label, hint]) => <Field key={k} label={label} hint={hint} type="number" min={0} value={open[k]} onChange={(e) => setOpen({ ...open, [k]: Number(e.target.value) })} />)}
            <h3 className="mb-2 font-semibold">Filed in an hour, at most</h3>
            <div className="grid gap-x-3 sm:grid-cols-3">{caps.map(([k, label, hint]) => <Field key={k} label={label} hint={hint} type="number" min={0} value={open[k]} onChange={(e) => setOpen({ ...open, [k]: Number(e.target.value) })} />)}</div>
            <Meanwhile error={save.error} mine={open} look={() => value(api.GET('/api/v1/limits'))} onMine={(t) => { setOpen({ ...open, revision: t.revision }); save.reset() }} onTheirs={() => { setOpen(null); save.reset() }} />
            <div className="flex justify-end gap-2"><Button onClick={() => setOpen(null)}>Cancel</Button><Button look="main" type="submit" disabled={save.isPending}>Save</Button></div>
          </form>
        )}
      </Sheet>
    </section>
  )
}
