import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Link } from 'react-router'

import { api, Problem, type Schemas, value } from '../api/client'
import { OneOf } from '../letter/blanks'
import { Button, Field, Listing, Pick, Sheet, Wrong } from '../ui/basics'
import { many, when } from '../ui/format'
import { Meanwhile } from '../ui/meanwhile'

const fieldError = (error: unknown, place: string) => (error instanceof Problem ? error.fields.find((f) => f.place === place)?.text : undefined)

/** Registers kept as files, verification, erasing, and the records themselves. */
export function RegisterCare() {
  return <><RegisterFiles /><Verification /><Erasing /><Records /></>
}

function RegisterFiles() {
  const client = useQueryClient()
  const [editing, setEditing] = useState<Schemas['RegisterFile'] | 'new' | null>(null)
  const query = useQuery({ queryKey: ['register', 'files'], queryFn: () => value(api.GET('/api/v1/register-files')) })
  const again = { onSuccess: () => client.invalidateQueries({ queryKey: ['register', 'files'] }) }
  const write = useMutation({ mutationFn: (id: string) => value(api.POST('/api/v1/register-files/{id}/write', { params: { path: { id } } })), ...again })
  const remove = useMutation({ mutationFn: (id: string) => value(api.DELETE('/api/v1/register-files/{id}', { params: { path: { id } } })), ...again })
  return (
    <section className="mb-10 max-w-4xl">
      <div className="mb-2 flex items-center justify-between gap-3"><h2>The register as a file</h2><Button onClick={() => setEditing('new')}>Keep the register as a file</Button></div>
      <Wrong error={write.error ?? remove.error} />
      <Listing query={query} empty={(f) => f.length === 0 && 'Colleagues can open the register in a spreadsheet program, if it is kept as a file in a cabinet. It is always up to date.'}>
        {(all) => all.map((f) => (
          <div key={f.id} className="flex flex-wrap items-start justify-between gap-3 border-t border-line py-3">
            <div className="min-w-0 flex-1 basis-72">
              <p><span className="font-semibold">{f.name}</span> <span className="text-ink-2">in {f.cabinet}, {f.format.toUpperCase()}{f.rule ? `, only the rule “${f.rule}”` : f.of_folder ? `, only the folder ${f.of_folder}` : ''}</span></p>
              {f.years.map((y) => <p key={y.year} className="text-sm text-ink-3 [overflow-wrap:anywhere]">{y.path}: {many(y.rows, 'line')}{y.written_at && `, written ${when(y.written_at)}`}</p>)}
              {f.problem && <p className="text-sm text-seal">{f.problem.replace(/\.$/, '')}. {f.advice}</p>}
            </div>
            <div className="flex items-center gap-2"><Button onClick={() => write.mutate(f.id)} disabled={write.isPending}>Write anew</Button><Button onClick={() => setEditing(f)}>Change</Button><Button onClick={() => remove.mutate(f.id)}>Remove</Button></div>
          </div>
        ))}
      </Listing>
      {editing && <RegisterFileSheet f={editing === 'new' ? null : editing} onClose={() => setEditing(null)} />}
    </section>
  )
}

function RegisterFileSheet({ f, onClose }: { f: Schemas['RegisterFile'] | null; onClose: () => void }) {
  const client = useQueryClient()
  const rules = useQuery({ queryKey: ['rules'], queryFn: () => value(api.GET('/api/v1/rules')) })
  const cabinets = useQuery({ queryKey: ['cabinets'], queryFn: () => value(api.GET('/api/v1/cabinets')) })
  const [from, setFrom] = useState(f?.revision)
  const [name, setName] = useState(f?.name ?? 'Register')
  const [cabinet, setCabinet] = useState(f?.cabinet ?? '')
  const [folder, setFolder] = useState(f?.folder ?? '')
  const [format, setFormat] = useState<'csv' | 'xlsx'>(f?.format ?? 'xlsx')
  const [per, setPer] = useState<'filing' | 'message'>(f?.per ?? 'filing')
  const [scope, setScope] = useState(f?.rule ? 'rule' : f?.of_folder ? 'folder' : 'all')
  const [rule, setRule] = useState(f?.rule ?? '')
  const [of, setOf] = useState(f?.of_folder ?? '')
  const chosen = cabinet || cabinets.data?.[0]?.name || ''
  const body = { name, cabinet: chosen, folder, format, per, rule: scope === 'rule' ? rule || rules.data?.[0]?.name : undefined, of_folder: scope === 'folder' ? of : undefined, columns: f?.columns ?? [] }
  const save = useMutation({
    mutationFn: () => value(f ? api.PUT('/api/v1/register-files/{id}', { params: { path: { id: f.id }, header: { 'If-Match': `"${from}"` } }, body }) : api.POST('/api/v1/register-files', { body })),
    onSuccess: () => { void client.invalidateQueries({ queryKey: ['register', 'files'] }); onClose() },
  })
  const placed = ['name', 'of_folder'].some((p) => fieldError(save.error, p))
  return (
    <Sheet title={f ? `The register “${f.name}”` : 'Keep the register as a file'} open onClose={onClose}>
      <form onSubmit={(e) => { e.preventDefault(); save.mutate() }}>
        <Field label="Name of the file" required value={name} onChange={(e) => setName(e.target.value)} hint={`One file for each year: ${name || 'Register'} ${new Date().getFullYear()}.${format}`} error={fieldError(save.error, 'name')} />
        <div className="grid gap-x-3 sm:grid-cols-2">
          <Pick label="Cabinet" value={chosen} onChange={setCabinet} choices={(cabinets.data ?? []).map((c) => [c.name, c.name])} />
          <Field label="Folder" value={folder} onChange={(e) => setFolder(e.target.value)} hint="Empty for the cabinet itself." />
        </div>
        <fieldset className="mb-4"><legend className="mb-1 text-sm font-semibold">Form</legend><OneOf name="file-format" value={format} onChange={(v) => setFormat(v as 'csv')} choices={[['xlsx', 'Workbook (XLSX)'], ['csv', 'Plain table (CSV)']]} /></fieldset>
        <fieldset className="mb-4"><legend className="mb-1 text-sm font-semibold">One line for</legend><OneOf name="file-per" value={per} onChange={(v) => setPer(v as 'message')} choices={[['filing', 'each file'], ['message', 'each message, with links to all its files']]} /></fieldset>
        <Pick label="What it holds" value={scope} onChange={setScope} choices={[['all', 'all filings'], ['rule', 'the filings of one rule'], ['folder', 'the filings of one folder']]} />
        {scope === 'rule' && <Pick label="Rule" value={rule || rules.data?.[0]?.name || ''} onChange={setRule} choices={(rules.data ?? []).map((r) => [r.name, r.name])} />}
        {scope === 'folder' && <Field label="Which folder of the cabinet" required value={of} onChange={(e) => setOf(e.target.value)} hint="and what lies below it, such as Gauges" error={fieldError(save.error, 'of_folder')} />}
        {!placed && <Meanwhile error={save.error} mine={body} look={() => value(api.GET('/api/v1/register-files')).then((l) => l.find((x) => x.id === f?.id))} onMine={(t) => { setFrom(t.revision); save.reset() }} onTheirs={onClose} />}
        <div className="flex justify-end gap-2"><Button onClick={onClose}>Cancel</Button><Button look="main" type="submit" disabled={save.isPending || !chosen}>{f ? 'Save' : 'Keep it'}</Button></div>
      </form>
    </Sheet>
  )
}

function Verification() {
  const [planning, setPlanning] = useState(false)
  const client = useQueryClient()
  const query = useQuery({ queryKey: ['passes', 'verification'], queryFn: () => value(api.GET('/api/v1/register/verification')) })
  const all = useMutation({ mutationFn: () => value(api.POST('/api/v1/register/verification', { body: {} })), onSuccess: () => client.invalidateQueries({ queryKey: ['passes'] }) })
  return (
    <section className="mb-10 max-w-4xl">
      <div className="mb-2 flex flex-wrap items-center justify-between gap-3"><h2>Verification</h2><span className="flex gap-2"><Button onClick={() => all.mutate()} disabled={all.isPending || query.data?.last?.state === 'running'}>Verify all now</Button><Button onClick={() => setPlanning(true)}>Change when files are verified</Button></span></div>
      <Wrong error={all.error} />
      <Listing query={query}>
        {(v) => (
          <div className="border-t border-line py-3">
            <p>{v.plan.every_days ? `Each file is read once in ${many(v.plan.every_days, 'day')}, to see that it still lies where it was filed, unchanged${v.plan.from_time ? `; between ${v.plan.from_time} and ${v.plan.to_time}` : ''}${v.plan.mb_per_second ? `; at most ${v.plan.mb_per_second} MB a second` : ''}.` : 'Files are verified only when somebody asks.'}</p>
            <p className="text-sm text-ink-2">{many(v.verified, 'file')} verified so far{v.due ? `, ${v.due.toLocaleString()} due` : ''}; <Link className="text-pen underline" to="/register?text=state:missing">{v.missing} missing</Link>, <Link className="text-pen underline" to="/register?text=state:changed">{v.changed} changed</Link>.</p>
            {v.last && <p className="text-sm text-ink-3">Last: <Link className="text-pen underline" to={`/history/${v.last.id}`}>{when(v.last.started_at)}</Link>, {v.last.looked.toLocaleString()} of {many(v.last.total, 'file')}, {v.last.state}{v.last.note && `: ${v.last.note}`}</p>}
          </div>
        )}
      </Listing>
      {planning && query.data && <PlanSheet plan={query.data.plan} revision={query.data.revision} onClose={() => setPlanning(false)} />}
    </section>
  )
}

function PlanSheet({ plan, revision, onClose }: { plan: Schemas['VerificationPlan']; revision: number; onClose: () => void }) {
  const [begun, setBegun] = useState(revision)
  const client = useQueryClient()
  const [days, setDays] = useState(String(plan.every_days))
  const [from, setFrom] = useState(plan.from_time ?? '')
  const [to, setTo] = useState(plan.to_time ?? '')
  const [speed, setSpeed] = useState(String(plan.mb_per_second ?? 0))
  const save = useMutation({
    mutationFn: () => value(api.PUT('/api/v1/register/verification', { params: { header: { 'If-Match': `"${begun}"` } }, body: { every_days: Number(days) || 0, from_time: from, to_time: to, mb_per_second: Number(speed) || 0 } })),
    onSuccess: () => { void client.invalidateQueries({ queryKey: ['passes'] }); onClose() },
  })
  return (
    <Sheet title="When files are verified" open onClose={onClose}>
      <form onSubmit={(e) => { e.preventDefault(); save.mutate() }}>
        <Field label="Each file once in so many days" type="number" min={0} max={3650} required value={days} onChange={(e) => setDays(e.target.value)} hint="0 for only when somebody asks" />
        <div className="grid grid-cols-2 gap-3">
          <Field label="From" type="time" value={from} onChange={(e) => setFrom(e.target.value)} error={fieldError(save.error, 'from')} hint="empty for all day" />
          <Field label="Until" type="time" value={to} onChange={(e) => setTo(e.target.value)} error={fieldError(save.error, 'to')} />
        </div>
        <Field label="At most, megabytes a second" type="number" min={0} value={speed} onChange={(e) => setSpeed(e.target.value)} hint="0 for no limit" />
        {!fieldError(save.error, 'from') && !fieldError(save.error, 'to') && <Meanwhile error={save.error} mine={{ every_days: Number(days) || 0, from_time: from, to_time: to, mb_per_second: Number(speed) || 0 }} look={() => value(api.GET('/api/v1/register/verification')).then((v) => ({ ...v.plan, revision: v.revision }))} onMine={(t) => { setBegun(t.revision); save.reset() }} onTheirs={onClose} />}
        <div className="flex justify-end gap-2"><Button onClick={onClose}>Cancel</Button><Button look="main" type="submit" disabled={save.isPending}>Save</Button></div>
      </form>
    </Sheet>
  )
}

function Records() {
  const check = useMutation({ mutationFn: (full: boolean) => value(api.POST('/api/v1/records/check', { body: { full } })) })
  const ready = useQuery({ queryKey: ['ready'], queryFn: () => value(api.GET('/api/v1/ready')) })
  const found = check.data
  return (
    <section className="mb-10 max-w-4xl">
      <div className="mb-2 flex flex-wrap items-center justify-between gap-3"><h2>Ink Tray’s own records</h2><span className="flex gap-2"><Button onClick={() => check.mutate(false)} disabled={check.isPending}>Check now</Button><Button onClick={() => check.mutate(true)} disabled={check.isPending}>Check in full</Button></span></div>
      <Wrong error={check.error} />
      <div className="border-t border-line py-3">
        <p className="text-ink-2">Rules, decisions and the register are in one file. At every start Ink Tray looks whether it is whole; a check in full looks at every index too, and takes longer.</p>
        {ready.data?.children_could && (ready.data.children_could.length === 0
          ? <p className="mt-2 text-ink-2">Attachments are read in processes of their own, which can open no other files, connections or programs.</p>
          : <p role="alert" className="mt-2 text-seal">Attachments are read in processes of their own. This system does not confine them fully: they could {ready.data.children_could.join(', ')}.</p>)}
        {found?.whole && <p role="status" className="mt-2">The file <span className="[overflow-wrap:anywhere]">{found.file}</span> is whole.</p>}
        {found && !found.whole && <div role="alert" className="mt-2 text-seal"><p>The file <span className="[overflow-wrap:anywhere]">{found.file}</span> is damaged. {found.advice}</p><ul className="list-disc pl-5 text-sm">{found.found.map((line) => <li key={line}>{line}</li>)}</ul></div>}
      </div>
    </section>
  )
}

function Erasing() {
  const [open, setOpen] = useState(false)
  return (
    <section className="mb-10 max-w-4xl">
      <div className="mb-2 flex items-center justify-between gap-3"><h2>Erasing a person’s traces</h2><Button onClick={() => setOpen(true)}>Erase a person’s traces…</Button></div>
      <p className="border-t border-line py-3 text-ink-2">When somebody asks to be forgotten: what names the person is erased from the register and the records; the numbers stay. After how many days that happens by itself is among the limits above.</p>
      {open && <EraseSheet onClose={() => setOpen(false)} />}
    </section>
  )
}

function EraseSheet({ onClose }: { onClose: () => void }) {
  const client = useQueryClient()
  const [address, setAddress] = useState('')
  const [files, setFiles] = useState<'keep' | 'remove'>('keep')
  const look = useMutation({ mutationFn: () => value(api.POST('/api/v1/erasures/preview', { body: { address, files } })) })
  const erase = useMutation({ mutationFn: () => value(api.POST('/api/v1/erasures', { body: { address, files } })), onSuccess: () => client.invalidateQueries() })
  const e = look.data
  return (
    <Sheet title="Erase a person’s traces" open onClose={onClose}>
      {erase.data ? (
        <>
          <p role="status">Erased: {many(erase.data.filings, 'line')} of the register, {many(erase.data.messages, 'message')}{erase.data.removed ? `, ${many(erase.data.removed, 'file')} removed` : ''}.</p>
          <div className="mt-5 flex justify-end"><Button onClick={onClose}>Close</Button></div>
        </>
      ) : (
        <form onSubmit={(ev) => { ev.preventDefault(); if (e) erase.mutate(); else look.mutate() }}>
          <Field label="The person’s mail address" required value={address} onChange={(ev) => { setAddress(ev.target.value); look.reset() }} placeholder="ansel.quorn@saltmarsh.example" error={fieldError(look.error, 'address')} />
          {e && (
            <>
              <ul className="mb-3 list-disc pl-5">
                <li>{many(e.filings, 'line')} of the register: sender and subject, {many(e.notes, 'note')}</li>
                <li>{many(e.messages, 'message')}: what the records hold of them</li>
                {e.posts > 0 && <li>{many(e.posts, 'mail')} that was sent to the person</li>}
                {e.correspondents > 0 && <li>the address with {many(e.correspondents, 'correspondent')}</li>}
              </ul>
              <p className="mb-3 text-sm text-ink-2">What stays: {e.stays?.join('; ')}.</p>
              {e.files > 0 && <fieldset className="mb-4"><legend className="mb-1 text-sm font-semibold">The {many(e.files, 'file')} that were filed</legend><OneOf name="erase-files" value={files} onChange={(v) => setFiles(v as 'keep')} choices={[['keep', 'stay in their folders'], ['remove', 'are removed for good']]} /></fieldset>}
              <p className="mb-3 font-semibold text-seal">It cannot be undone.</p>
            </>
          )}
          {!fieldError(look.error, 'address') && <Wrong error={look.error ?? erase.error} />}
          <div className="flex justify-end gap-2"><Button onClick={onClose}>Keep everything</Button>{e ? <Button look="seal" type="submit" disabled={erase.isPending}>Erase for good</Button> : <Button look="main" type="submit" disabled={look.isPending}>See what would be erased</Button>}</div>
        </form>
      )}
    </Sheet>
  )
}
