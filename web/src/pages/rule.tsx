import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useMemo, useState } from 'react'
import { useNavigate, useParams } from 'react-router'

import { api, Problem, type Schemas, value } from '../api/client'
import { list, type RuleDocument } from '../letter/document'
import { Letter } from '../letter/letter'
import { Button, Chip, Field, Listing, Page, Sheet, Wrong } from '../ui/basics'
import { many, size, when } from '../ui/format'
import { ItemLine, MessageHead } from './parts'

type Body = Schemas['RuleDocument']

export function RulePage() {
  const id = useParams().id!
  const isNew = id === 'new'
  const rule = useQuery({ queryKey: ['rules', id], queryFn: () => value(api.GET('/api/v1/rules/{id}', { params: { path: { id } } })), enabled: !isNew, refetchOnWindowFocus: false })
  const mailboxes = useQuery({ queryKey: ['mailboxes'], queryFn: () => value(api.GET('/api/v1/mailboxes')) })
  const cabinets = useQuery({ queryKey: ['cabinets'], queryFn: () => value(api.GET('/api/v1/cabinets')) })
  if (!mailboxes.data || !cabinets.data) return <Listing query={mailboxes.data ? cabinets : mailboxes}>{() => null}</Listing>
  const names = { mailboxes: mailboxes.data.map((m) => m.name), cabinets: cabinets.data.map((c) => c.name) }
  if (isNew) {
    const start: RuleDocument = { name: '', cabinet: names.cabinets[0] ?? '', look: { mailboxes: names.mailboxes.slice(0, 1) }, match: { sender: { domain: [] } }, attachments: [{ take: [{ kind: 'pdf' }], folder: 'Mail/<received year>/<received month> <received month name>' }] }
    return <Desk key="new" start={start} {...names} />
  }
  return <Listing query={rule}>{(r) => <Desk key={r.id} start={r.document as unknown as RuleDocument} rule={r} {...names} />}</Listing>
}

function useSettled<T>(v: T, ms: number): T {
  const [settled, set] = useState(v)
  useEffect(() => {
    const t = window.setTimeout(() => set(v), ms)
    return () => window.clearTimeout(t)
  }, [v, ms])
  return settled
}

function Desk({ start, rule, mailboxes, cabinets }: { start: RuleDocument; rule?: Schemas['Rule']; mailboxes: string[]; cabinets: string[] }) {
  const go = useNavigate()
  const client = useQueryClient()
  const [document, setDocument] = useState(start)
  const [asking, setAsking] = useState<'' | 'remove' | 'old mail'>('')
  const [saved, setSaved] = useState(JSON.stringify(start))
  const changed = JSON.stringify(document) !== saved
  const settled = useSettled(document, 250)
  const language = useQuery({ queryKey: ['language'], queryFn: () => value(api.GET('/api/v1/rules/language')), staleTime: Infinity })
  const look = list(document.look.mailboxes)
  const choices = useQuery({ queryKey: ['choices', look], queryFn: () => value(api.GET('/api/v1/rules/choices', { params: { query: { mailbox: look } } })), enabled: look.length > 0 })
  const rehearsal = useQuery({
    queryKey: ['rehearsal', JSON.stringify(settled)],
    queryFn: () => value(api.POST('/api/v1/rules/rehearse', { body: { ...settled, name: settled.name || 'New rule' } as unknown as Body })),
    placeholderData: keepPreviousData, retry: false, gcTime: 0,
  })
  const save = useMutation({
    mutationFn: () => value(rule ? api.PUT('/api/v1/rules/{id}', { params: { path: { id: rule.id }, header: { 'If-Match': `"${rule.revision}"` } }, body: document as unknown as Body }) : api.POST('/api/v1/rules', { body: document as unknown as Body })),
    onSuccess: (r) => {
      setSaved(JSON.stringify(document))
      client.setQueryData(['rules', r.id], r)
      void client.invalidateQueries({ queryKey: ['rules'] })
      if (!rule) void go(`/rules/${r.id}`, { replace: true })
    },
  })
  const flip = useMutation({
    mutationFn: (on: boolean) => value(api.POST(on ? '/api/v1/rules/{id}/on' : '/api/v1/rules/{id}/off', { params: { path: { id: rule!.id } } })),
    onSuccess: (r) => { client.setQueryData(['rules', r.id], r); void client.invalidateQueries({ queryKey: ['rules'] }) },
  })
  const remove = useMutation({ mutationFn: () => value(api.DELETE('/api/v1/rules/{id}', { params: { path: { id: rule!.id } } })), onSuccess: () => { void client.invalidateQueries({ queryKey: ['rules'] }); void go('/rules') } })
  const problems = useMemo(() => [...(rehearsal.error instanceof Problem ? rehearsal.error.fields : []), ...(save.error instanceof Problem ? save.error.fields.filter((f) => f.place === 'name') : [])], [rehearsal.error, save.error])
  const example = rehearsal.data?.messages.flatMap((m) => m.items).find((i) => i.verdict === 'filed')?.path
  const nameProblem = problems.find((p) => p.place === 'name')?.text
  return (
    <Page
      title={rule ? rule.name : 'A new rule'}
      sub={rule?.running ? (changed ? 'On, as it was saved last. Save to let it run as it stands here.' : `On. ${many(rule.filed, 'file')} filed so far.`) : 'Off. Nothing is filed until you switch it on.'}
      actions={<>
        {rule && <Button look="quiet" onClick={() => setAsking('remove')}>Remove…</Button>}
        {rule && <Button onClick={() => setAsking('old mail')} disabled={changed}>File old mail…</Button>}
        <Button onClick={() => save.mutate()} disabled={save.isPending || (!changed && !!rule)}>Save</Button>
        {rule && <Button look="main" disabled={(changed && !rule.running) || flip.isPending} onClick={() => flip.mutate(!rule.running)}>{rule.running ? 'Switch off' : 'Switch on'}</Button>}
      </>}
    >
      <Wrong error={save.error instanceof Problem && save.error.fields.length > 0 && save.error.fields.every((f) => f.place === 'name') ? null : (save.error ?? flip.error)} />
      {rule && <Passes rule={rule} />}
      <div className="grid grid-cols-[minmax(0,1fr)] gap-7 xl:grid-cols-[minmax(0,1.12fr)_minmax(0,1fr)]">
        <div>
          <Field label="Name of the rule" value={document.name} onChange={(e) => setDocument({ ...document, name: e.target.value })} error={nameProblem} />
          <Letter document={document} onChange={setDocument} problems={problems} example={example} known={{ mailboxes, cabinets, domains: choices.data?.domains ?? [], language: language.data }} />
        </div>
        <RehearsalPane rehearsal={rehearsal.data} error={rehearsal.error} />
      </div>
      <Sheet title={`Remove “${rule?.name ?? ''}”?`} open={asking === 'remove'} onClose={() => setAsking('')}>
        <p>It no longer files anything. The {many(rule?.filed ?? 0, 'file')} that it filed stay where they are and in the register.</p>
        <Wrong error={remove.error} />
        <div className="mt-5 flex justify-end gap-2"><Button onClick={() => setAsking('')}>Keep it</Button><Button look="seal" onClick={() => remove.mutate()}>Remove</Button></div>
      </Sheet>
      {asking === 'old mail' && rule && <OldMail rule={rule} onClose={() => setAsking('')} />}
    </Page>
  )
}

function RehearsalPane({ rehearsal: r, error }: { rehearsal?: Schemas['Rehearsal']; error: unknown }) {
  const wrong = error instanceof Problem && error.fields.length > 0
  const there = r?.messages.flatMap((m) => m.items).filter((i) => i.verdict === 'already there').length
  return (
    <section aria-label="Rehearsal" className="min-w-0">
      <h2>Rehearsal on the last {r ? many(r.looked, 'message') : 'messages'}</h2>
      <p className="mb-2 text-ink-2" role="status">
        {wrong ? 'The letter has a blank that is not right yet; see there.' : r ? `${r.matching} match · ${many(r.files, 'file')} would be filed, ${size(r.bytes)}${there ? ` · ${there} filed already` : ''}${r.clashes ? ` · ${many(r.clashes, 'name is', 'names are')} taken` : ''} · nothing is written` : 'Looking…'}
      </p>
      {!!error && !wrong && <Wrong error={error} />}
      <div className={`max-h-[75vh] overflow-auto pr-1 ${wrong ? 'opacity-60' : ''}`} tabIndex={0} role="region" aria-label="Messages of the rehearsal">
        {r?.messages.length === 0 && <p className="py-4 text-ink-2">No message is known in these folders yet.</p>}
        {r?.messages.map((m) => (
          <article key={m.message.id} className="border-t border-line py-3">
            <MessageHead message={m.message} time={when(m.message.received_at)} />
            {!m.matches && <p className="mt-0.5 text-[13.5px] text-ink-2"><Chip word={m.answer === 'no' ? 'does not match' : m.answer} /> {m.reason}</p>}
            {m.items.map((i) => <ItemLine key={i.item} item={i} />)}
            {m.matches && m.items.length === 0 && <p className="mt-1 text-[13.5px] text-ink-2"><Chip word="matches" /> and has no attachment</p>}
          </article>
        ))}
      </div>
    </section>
  )
}

function OldMail({ rule, onClose }: { rule: Schemas['Rule']; onClose: () => void }) {
  const client = useQueryClient()
  const [since, setSince] = useState('')
  const [most, setMost] = useState('')
  const begin = useMutation({
    mutationFn: () => value(api.POST('/api/v1/rules/{id}/old-mail', { params: { path: { id: rule.id } }, body: { since: since || undefined, most: Number(most) || undefined } })),
    onSuccess: () => { void client.invalidateQueries({ queryKey: ['passes'] }); onClose() },
  })
  return (
    <Sheet title="File old mail" open onClose={onClose}>
      <p className="mb-4 text-ink-2">Files what lies in the rule’s folders already. What was filed before is not filed again. It can be paused and stopped, and goes on when this page is closed.</p>
      <form onSubmit={(e) => { e.preventDefault(); begin.mutate() }}>
        <Field label="Received on this day or later" type="date" value={since} onChange={(e) => setSince(e.target.value)} hint="Empty for all that is there." />
        <Field label="At most so many of the most recent messages" inputMode="numeric" pattern="[0-9]*" value={most} onChange={(e) => setMost(e.target.value)} hint="Empty for no limit." />
        <Wrong error={begin.error} />
        <div className="flex justify-end gap-2"><Button onClick={onClose}>Cancel</Button><Button look="main" type="submit" disabled={begin.isPending}>Begin</Button></div>
      </form>
    </Sheet>
  )
}

/** Passes over old mail that are under way for this rule, or were just now. */
function Passes({ rule }: { rule: Schemas['Rule'] }) {
  const client = useQueryClient()
  const query = useQuery({ queryKey: ['passes'], queryFn: () => value(api.GET('/api/v1/passes', { params: { query: { most: 100 } } })), refetchInterval: (q) => (q.state.data?.some((p) => p.state === 'running') ? 1000 : false) })
  const steer = useMutation({
    mutationFn: ({ id, to }: { id: number; to: 'running' | 'paused' | 'stopped' }) => value(api.PUT('/api/v1/passes/{number}', { params: { path: { number: id } }, body: { to } })),
    onSettled: () => client.invalidateQueries({ queryKey: ['passes'] }),
  })
  const mine = query.data?.filter((p) => p.kind === 'old mail' && p.rule === rule.name && (p.state === 'running' || p.state === 'paused')) ?? []
  return mine.map((p) => (
    <div key={p.id} className="mb-5 rounded-xl border border-line bg-sheet-2 px-5 py-3">
      <div className="flex flex-wrap items-center justify-between gap-3">
        <p><span className="font-semibold">Old mail is being filed</span> <span className="text-ink-2">{p.looked} of {many(p.total, 'message')}, {many(p.filed, 'file')} filed{p.seconds_left !== undefined && p.state === 'running' ? `, about ${p.seconds_left} s left` : ''}{p.state === 'paused' ? ', paused' : ''}{p.note && `, ${p.note}`}</span></p>
        <div className="flex gap-2">
          {p.state === 'running' ? <Button onClick={() => steer.mutate({ id: p.id, to: 'paused' })}>Pause</Button> : <Button onClick={() => steer.mutate({ id: p.id, to: 'running' })}>Go on</Button>}
          <Button onClick={() => steer.mutate({ id: p.id, to: 'stopped' })}>Stop</Button>
        </div>
      </div>
      <progress className="mt-2 h-1.5 w-full accent-[var(--pen)]" max={Math.max(1, p.total)} value={p.looked} aria-label="Progress" />
    </div>
  ))
}
