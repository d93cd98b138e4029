import { plural, t } from '@lingui/core/macro'
import { Plural, Trans } from '@lingui/react/macro'
import { keepPreviousData, useMutation, useQueries, useQuery, useQueryClient } from '@tanstack/react-query'
import { DropdownMenu } from 'radix-ui'
import { useEffect, useMemo, useRef, useState } from 'react'
import { Link, useNavigate, useParams, useSearchParams } from 'react-router'

import { api, ifMatch, Problem, type Schemas, value } from '../api/client'
import { keys, queries } from '../api/queries'
import { list, type RuleDocument } from '../letter/document'
import { Letter } from '../letter/letter'
import { hasBlanks, type StartingPoint, startingPoints } from '../letter/starts'
import { Button, Field, Fresh, Listing, Page, Sheet, Wrong } from '../ui/basics'
import { Overtaken, overtaken } from '../ui/meanwhile'
import { useLeaving } from '../ui/router'
import { RehearsalPane, type Scope } from './rehearsal'
import { Differences, OldMail, RemoveRule, Revisions, SwitchOn } from './rulecare'
import { address } from '../api/where'

export function RulePage() {
  const id = useParams().id!
  const isNew = id === 'new'
  const from = Number(useSearchParams()[0].get('from')) || 0
  const draft = useQuery({ ...queries.draft(from), enabled: isNew && from > 0, refetchOnWindowFocus: false })
  const rule = useQuery({ ...queries.rule(id), enabled: !isNew, refetchOnWindowFocus: false })
  const mailboxes = useQuery(queries.mailboxes)
  const cabinets = useQuery(queries.cabinets)
  if (!mailboxes.data || !cabinets.data)
    return <Listing query={mailboxes.data ? cabinets : mailboxes}>{() => null}</Listing>
  const names = {
    boxes: mailboxes.data,
    mailboxes: mailboxes.data.map((m) => m.name),
    cabinets: cabinets.data.map((c) => c.name),
  }
  if (isNew && from > 0)
    return <Listing query={draft}>{(d) => <Desk key="draft" start={d} message={from} {...names} />}</Listing>
  if (isNew) return <NewRule {...names} />
  return <Listing query={rule}>{(r) => <Desk key={r.id} start={r.document} rule={r} {...names} />}</Listing>
}

/** A new rule begins from one of the starting points; the first is the sender that writes most, if the guide asks. */
function NewRule(names: { boxes: Schemas['Mailbox'][]; mailboxes: string[]; cabinets: string[] }) {
  const asked = useSearchParams()[0].get('start') ?? ''
  const first = names.mailboxes.slice(0, 1)
  const choices = useQuery({ ...queries.choices(first), enabled: first.length > 0 })
  const most = choices.data?.domains[0]?.value
  const all = startingPoints({ name: '', cabinet: names.cabinets[0] ?? '', look: { mailboxes: first } }, most)
  const [chosen, setChosen] = useState(asked)
  if (asked === 'proposed' && choices.isPending && first.length > 0)
    return <Listing query={choices}>{() => null}</Listing>
  const one = all.find((s) => s.at === chosen) ?? all.find((s) => s.at === 'sender')!
  return <Desk key={one.at} start={one.rule} starts={all} begins={one.at} onStart={setChosen} {...names} />
}

function useSettled<T>(v: T, ms: number): T {
  const [settled, set] = useState(v)
  useEffect(() => {
    const timer = window.setTimeout(() => set(v), ms)
    return () => window.clearTimeout(timer)
  }, [v, ms])
  return settled
}

/** The topics that a rule asks for. */
function topicsOf(d: RuleDocument): string[] {
  const found = new Set<string>()
  const walk = (c: unknown) => {
    if (Array.isArray(c)) c.forEach(walk)
    else if (c && typeof c === 'object')
      for (const [k, v] of Object.entries(c)) {
        if (k === 'topic' && v && typeof v === 'object')
          list((v as { is?: string | string[] }).is).forEach((name) => found.add(name))
        else if (k === 'all' || k === 'any' || k === 'none') walk(v)
      }
  }
  walk(d.match)
  walk(d.unless ?? [])
  return [...found]
}

type Asking = '' | 'remove' | 'old mail' | 'on' | 'revisions'

/** What was typed while a new rule was being saved, by the rule's identifier, until its page has taken it over. */
const meanwhile = new Map<string, RuleDocument>()

function Desk({
  start,
  rule,
  message,
  starts,
  begins,
  onStart,
  boxes,
  mailboxes,
  cabinets,
}: {
  start: RuleDocument
  rule?: Schemas['Rule']
  message?: number
  /** Of a new rule: the starting points, and which one it has. */
  starts?: StartingPoint[]
  begins?: string
  onStart?: (at: string) => void
  boxes: Schemas['Mailbox'][]
  mailboxes: string[]
  cabinets: string[]
}) {
  const go = useNavigate()
  const client = useQueryClient()
  const [document, setDocument] = useState((rule && meanwhile.get(rule.id)) ?? start)
  const latest = useRef(document)
  useEffect(() => {
    latest.current = document
    if (rule) meanwhile.delete(rule.id)
  }, [document, rule])
  const [asking, setAsking] = useState<Asking>('')
  const [scope, setScope] = useState<Scope>(message ? { message } : {})
  // What the editing began from. Where somebody else saves meanwhile, an untouched letter follows; a touched one stays.
  const [begun, setBegun] = useState({ revision: rule?.revision, text: JSON.stringify(start) })
  const changed = JSON.stringify(document) !== begun.text
  const follow = (r: Schemas['Rule']) => {
    setDocument(r.document)
    setBegun({ revision: r.revision, text: JSON.stringify(r.document) })
  }
  if (rule && rule.revision > (begun.revision ?? 0) && !changed) follow(rule)
  // Leaving with something unsaved asks, also when the window is closed.
  const unsaved = useRef(false)
  useEffect(() => {
    unsaved.current = changed
  }, [changed])
  const leaving = useLeaving(() => unsaved.current)
  useEffect(() => {
    if (!changed) return
    const ask = (e: BeforeUnloadEvent) => e.preventDefault()
    window.addEventListener('beforeunload', ask)
    return () => window.removeEventListener('beforeunload', ask)
  }, [changed])
  // Nothing of a new letter was filled in yet: it shows the mail that is there, and no error.
  const untouched =
    !rule && !message && JSON.stringify({ ...document, name: '' }) === JSON.stringify({ ...start, name: '' })
  const fresh = untouched && hasBlanks(start)
  const rehearsed = useMemo<RuleDocument>(
    () => (fresh ? { ...document, match: 'every message' } : document),
    [fresh, document],
  )
  const settled = useSettled(rehearsed, 250)
  const language = useQuery(queries.language)
  const people = useQuery(queries.addressees).data?.map((a) => a.name) ?? []
  const look = list(document.look.mailboxes)
  const choices = useQuery({ ...queries.choices(look), enabled: look.length > 0 })
  // The folders that are there, asked of the mailboxes that the rule looks into.
  const folders = useQueries({
    queries: boxes
      .filter((b) => look[0] === 'all' || look.includes(b.name))
      .slice(0, 20)
      .map((b) => ({ ...queries.folders(b.id), staleTime: 300_000, retry: false })),
    combine: (all) => [...new Set(all.flatMap((q) => q.data?.filter((f) => f.selectable).map((f) => f.path) ?? []))],
  })
  const rehearsal = useQuery({
    queryKey: [...keys.rehearsal, JSON.stringify(settled), scope],
    queryFn: () =>
      value(
        api.POST('/api/v1/rules/rehearse', {
          params: { query: scope },
          body: { ...settled, name: settled.name || t`New rule` },
        }),
      ),
    placeholderData: keepPreviousData,
    retry: false,
    gcTime: 0,
  })
  const save = useMutation({
    mutationFn: (sent: RuleDocument) =>
      value(
        rule
          ? api.PUT('/api/v1/rules/{id}', {
              params: { path: { id: rule.id }, header: ifMatch(begun.revision) },
              body: sent,
            })
          : api.POST('/api/v1/rules', { body: sent }),
      ),
    onSuccess: (r, sent) => {
      setBegun({ revision: r.revision, text: JSON.stringify(sent) })
      client.setQueryData(queries.rule(r.id).queryKey, r)
      void client.invalidateQueries({ queryKey: keys.rules })
      unsaved.current = false
      const typed = JSON.stringify(latest.current) !== JSON.stringify(sent)
      if (leaving.asked)
        leaving.leave() // somebody went on while it was being saved
      else if (!rule) {
        if (typed) meanwhile.set(r.id, latest.current)
        void go(`/rules/${r.id}`, { replace: true })
      } else unsaved.current = typed
    },
  })
  const late = !!rule && (overtaken(save.error) || (changed && rule.revision > (begun.revision ?? 0)))
  const kept = (r: Schemas['Rule']) => {
    client.setQueryData(queries.rule(r.id).queryKey, r)
    void client.invalidateQueries({ queryKey: keys.rules })
  }
  const off = useMutation({
    mutationFn: () => value(api.POST('/api/v1/rules/{id}/off', { params: { path: { id: rule!.id } } })),
    onSuccess: kept,
  })
  const copy = useMutation({
    mutationFn: () => value(api.POST('/api/v1/rules/{id}/copy', { params: { path: { id: rule!.id } } })),
    onSuccess: (r) => {
      kept(r)
      void go(`/rules/${r.id}`)
    },
  })
  const again = useMutation({
    mutationFn: () =>
      value(api.POST('/api/v1/register/values', { body: { text: `rule:"${rule!.name.replaceAll('"', '')}"` } })),
    onSuccess: (p) => void go(`/history/${p.id}`),
  })
  const problems = useMemo(
    () => [
      ...(rehearsal.error instanceof Problem ? rehearsal.error.fields : []),
      ...(save.error instanceof Problem ? save.error.fields.filter((f) => fresh || f.place === 'name') : []),
    ],
    [rehearsal.error, save.error, fresh],
  )
  const example = rehearsal.data?.messages.flatMap((m) => m.items).find((i) => i.verdict === 'filed')?.path
  const read = rehearsal.data?.messages
    .flatMap((m) => m.items)
    .filter((i) => i.verdict !== 'left out' && !i.unknown?.some((field) => !field.startsWith('register')))
    .map((i) => i.values ?? [])
  const nameProblem = problems.find((p) => p.place === 'name')?.text
  return (
    <Page
      title={rule ? rule.name : t`A new rule`}
      sub={
        rule?.running
          ? changed
            ? t`On, in the state that was saved last. Save to use your changes.`
            : t`On. ${plural(rule.filed, { one: '# file', other: '# files' })} filed so far.`
          : t`Off. Nothing is filed until you switch it on.`
      }
      actions={
        <>
          {rule && (
            <DropdownMenu.Root>
              <DropdownMenu.Trigger className="rounded-lg border border-line-2 px-4 py-2 text-sm font-semibold hover:bg-sheet-2">
                <Trans>More…</Trans>
              </DropdownMenu.Trigger>
              <DropdownMenu.Portal>
                <DropdownMenu.Content
                  align="end"
                  sideOffset={4}
                  className="z-30 min-w-52 rounded-xl border border-line bg-sheet p-1.5 text-[15px] shadow-sheet"
                >
                  {(
                    [
                      [t`Copy this rule`, () => copy.mutate()],
                      ...(document.values && !changed
                        ? [[t`Read filed files again`, () => again.mutate()] as [string, () => void]]
                        : []),
                      [t`Earlier versions…`, () => setAsking('revisions')],
                      [t`Save as a file`, () => window.location.assign(address(`/api/v1/rules/export?id=${rule.id}`))],
                      [t`Remove…`, () => setAsking('remove')],
                    ] as [string, () => void][]
                  ).map(([word, act]) => (
                    <DropdownMenu.Item
                      key={word}
                      onSelect={act}
                      className="cursor-default rounded-lg px-3 py-1.5 outline-none data-[highlighted]:bg-pen-soft"
                    >
                      {word}
                    </DropdownMenu.Item>
                  ))}
                </DropdownMenu.Content>
              </DropdownMenu.Portal>
            </DropdownMenu.Root>
          )}
          {rule && (
            <Button onClick={() => setAsking('old mail')} disabled={changed}>
              <Trans>File old mail…</Trans>
            </Button>
          )}
          <Button onClick={() => save.mutate(document)} disabled={save.isPending || late || (!changed && !!rule)}>
            <Trans>Save</Trans>
          </Button>
          {rule && (
            <Button
              look="main"
              disabled={(changed && !rule.running) || off.isPending}
              onClick={() => (rule.running ? off.mutate() : setAsking('on'))}
            >
              {rule.running ? t`Switch off` : t`Switch on…`}
            </Button>
          )}
        </>
      }
    >
      <Wrong
        error={
          late
            ? (off.error ?? copy.error)
            : save.error instanceof Problem &&
                save.error.fields.length > 0 &&
                save.error.fields.every((f) => f.place === 'name')
              ? null
              : (save.error ?? off.error ?? copy.error)
        }
      />
      {rule && late && (
        <Both
          rule={rule}
          document={document}
          since={begun.revision ?? 0}
          onMine={(now) => {
            setBegun({ revision: now, text: '' })
            save.reset()
          }}
          onTheirs={(r) => {
            follow(r)
            save.reset()
          }}
        />
      )}
      {rule && <Passes rule={rule} />}
      <div className="grid grid-cols-[minmax(0,1fr)] gap-7 xl:grid-cols-[minmax(0,1.12fr)_minmax(0,1fr)]">
        <div>
          {starts && untouched && (
            <div className="mb-4">
              <p className="mb-1 text-sm font-semibold">
                <Trans>Start with</Trans>
              </p>
              <div className="flex flex-wrap gap-2">
                {starts.map((s) => (
                  <button
                    key={s.at}
                    type="button"
                    aria-pressed={s.at === begins}
                    className={`rounded-full border px-3 py-1 text-sm ${s.at === begins ? 'border-pen bg-pen-soft font-semibold' : 'border-line-2 hover:bg-sheet-2'}`}
                    onClick={() => onStart?.(s.at)}
                  >
                    {s.name}
                  </button>
                ))}
                <Link className="rounded-full border border-line-2 px-3 py-1 text-sm hover:bg-sheet-2" to="/mail">
                  <Trans>A message…</Trans>
                </Link>
              </div>
            </div>
          )}
          <Field
            label={t`Name of the rule`}
            value={document.name}
            onChange={(e) => setDocument({ ...document, name: e.target.value })}
            error={nameProblem}
          />
          <Fresh value={fresh && !save.isError}>
            <Letter
              document={document}
              onChange={setDocument}
              problems={problems}
              example={example}
              known={{
                mailboxes,
                cabinets,
                folders,
                people,
                choices: choices.data,
                language: language.data,
                read,
                rule: rule?.id,
              }}
            />
          </Fresh>
        </div>
        <RehearsalPane
          rehearsal={rehearsal.data}
          error={rehearsal.error}
          busy={rehearsal.isFetching}
          fresh={fresh}
          scope={scope}
          setScope={setScope}
          topics={topicsOf(document)}
        />
      </div>
      <Sheet title={t`This rule is not saved`} open={leaving.asked && !save.isPending} onClose={leaving.stay}>
        <p className="mb-4 text-ink-2">
          {rule
            ? t`Your changes are lost if you leave the page without saving them.`
            : t`The new rule is lost if you leave the page without saving it.`}
        </p>
        <Wrong error={leaving.asked ? save.error : null} />
        <div className="flex flex-wrap justify-end gap-2">
          <Button onClick={leaving.stay}>
            <Trans>Stay here</Trans>
          </Button>
          <Button look="seal" onClick={() => leaving.leave()}>
            <Trans>Leave without saving</Trans>
          </Button>
          <Button look="main" disabled={save.isPending || late} onClick={() => save.mutate(document)}>
            <Trans>Save and leave</Trans>
          </Button>
        </div>
      </Sheet>
      {asking === 'remove' && rule && (
        <RemoveRule
          rule={rule}
          onRemove={() => {
            unsaved.current = false
          }}
          onClose={() => setAsking('')}
        />
      )}
      {asking === 'on' && rule && <SwitchOn rule={rule} onClose={() => setAsking('')} />}
      {asking === 'revisions' && rule && (
        <Revisions
          rule={rule}
          onClose={() => setAsking('')}
          onBack={(r) => {
            kept(r)
            follow(r)
            setAsking('')
          }}
        />
      )}
      {asking === 'old mail' && rule && <OldMail rule={rule} onClose={() => setAsking('')} />}
    </Page>
  )
}

/** Somebody else saved this rule meanwhile: what they changed, and what mine changes of theirs. */
function Both({
  rule,
  document,
  since,
  onMine,
  onTheirs,
}: {
  rule: Schemas['Rule']
  document: RuleDocument
  since: number
  onMine: (revision: number) => void
  onTheirs: (r: Schemas['Rule']) => void
}) {
  const client = useQueryClient()
  const theirs = useQuery({
    queryKey: ['meanwhile', rule.id, since, rule.revision],
    staleTime: 0,
    gcTime: 0,
    queryFn: async () => {
      const r = await value(api.GET('/api/v1/rules/{id}', { params: { path: { id: rule.id } } }))
      const all = await value(api.GET('/api/v1/rules/{id}/revisions', { params: { path: { id: rule.id } } }))
      return { rule: r, saved: all.filter((x) => x.number > since) }
    },
  })
  const text = JSON.stringify({ format: 1, rules: [{ ...document, id: rule.id }] }, null, 1)
  const mine = useQuery({
    queryKey: ['meanwhile', rule.id, theirs.data?.rule.revision, text],
    enabled: !!theirs.data,
    retry: false,
    gcTime: 0,
    placeholderData: keepPreviousData,
    queryFn: () => value(api.POST('/api/v1/rules/compare', { body: { document: text } })),
  })
  const lines = mine.data?.flatMap((c) => c.lines ?? []) ?? []
  return (
    <Overtaken
      who={theirs.data?.saved[0]?.made_by}
      onMine={theirs.data && (() => onMine(theirs.data.rule.revision))}
      onTheirs={() => {
        if (theirs.data) {
          client.setQueryData(['rules', rule.id], theirs.data.rule)
          onTheirs(theirs.data.rule)
        }
      }}
    >
      <Listing query={theirs}>
        {(takes) => (
          <div className="mt-2 grid gap-4 md:grid-cols-2">
            <div>
              <p className="text-sm font-semibold">
                <Trans>What they changed</Trans>
              </p>
              {takes.saved.map((r) => (
                <Differences key={r.number} lines={r.lines} />
              ))}
            </div>
            <div>
              <p className="text-sm font-semibold">
                <Trans>What saving yours would change</Trans>
              </p>
              {lines.some((l) => l.in !== 'both') ? (
                <Differences lines={lines} />
              ) : (
                <p className="mt-1 text-[14.5px] text-ink-2">
                  {mine.error ? mine.error.message : t`Nothing: both say the same.`}
                </p>
              )}
            </div>
          </div>
        )}
      </Listing>
    </Overtaken>
  )
}

/** Passes over old mail that are under way for this rule, or were just now. */
function Passes({ rule }: { rule: Schemas['Rule'] }) {
  const client = useQueryClient()
  const query = useQuery({
    ...queries.passes,
    refetchInterval: (q) => (q.state.data?.some((p) => p.state === 'running') ? 1000 : false),
  })
  const steer = useMutation({
    mutationFn: ({ id, to }: { id: number; to: 'running' | 'paused' | 'stopped' }) =>
      value(api.PUT('/api/v1/passes/{number}', { params: { path: { number: id } }, body: { to } })),
    onSettled: () => client.invalidateQueries({ queryKey: keys.passes }),
  })
  const mine =
    query.data?.filter(
      (p) => p.kind === 'old mail' && p.rule === rule.name && (p.state === 'running' || p.state === 'paused'),
    ) ?? []
  return mine.map((p) => (
    <div key={p.id} className="mb-5 rounded-xl border border-line bg-sheet-2 px-5 py-3">
      <div className="flex flex-wrap items-center justify-between gap-3">
        <p>
          <span className="font-semibold">
            <Trans>Old mail is being filed</Trans>
          </span>{' '}
          <span className="text-ink-2">
            <Trans>
              {p.looked} of <Plural value={p.total} one="# message" other="# messages" />,{' '}
              <Plural value={p.filed} one="# file" other="# files" /> filed
              {p.seconds_left !== undefined && p.state === 'running' ? t`, about ${p.seconds_left} s left` : ''}
              {p.state === 'paused' ? t`, paused` : ''}
              {p.note && `, ${p.note}`}
            </Trans>
          </span>
        </p>
        <div className="flex gap-2">
          {p.state === 'running' ? (
            <Button onClick={() => steer.mutate({ id: p.id, to: 'paused' })}>
              <Trans>Pause</Trans>
            </Button>
          ) : (
            <Button onClick={() => steer.mutate({ id: p.id, to: 'running' })}>
              <Trans>Go on</Trans>
            </Button>
          )}
          <Button onClick={() => steer.mutate({ id: p.id, to: 'stopped' })}>
            <Trans>Stop</Trans>
          </Button>
        </div>
      </div>
      <progress
        className="mt-2 h-1.5 w-full accent-[var(--pen)]"
        max={Math.max(1, p.total)}
        value={p.looked}
        aria-label={t`Progress`}
      />
    </div>
  ))
}
