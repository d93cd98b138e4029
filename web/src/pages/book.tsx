import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'

import { api, Problem, type Schemas, value } from '../api/client'
import { TextList } from '../letter/blanks'
import { Button, Field, Listing, Sheet, Wrong } from '../ui/basics'
import { many } from '../ui/format'
import { Meanwhile } from '../ui/meanwhile'

const fieldError = (error: unknown, place: string) => (error instanceof Problem ? error.fields.find((f) => f.place === place)?.text : undefined)
const fieldsOf = (error: unknown, places: string[]) => error instanceof Problem && error.fields.length > 0 && error.fields.every((f) => places.includes(f.place))

type Person = Schemas['Correspondent']
type Draft = { name: string; domains: string[]; addresses: string[]; groups: string[] }

/** The persons and firms with whom the office writes. */
export function Correspondents() {
  const client = useQueryClient()
  const [editing, setEditing] = useState<{ id?: string; revision?: number; passwords: number; draft: Draft } | null>(null)
  const all = useQuery({ queryKey: ['correspondents'], queryFn: () => value(api.GET('/api/v1/correspondents')) })
  const proposals = useQuery({ queryKey: ['proposals'], queryFn: () => value(api.GET('/api/v1/correspondents/proposals')) })
  const remove = useMutation({ mutationFn: (id: string) => value(api.DELETE('/api/v1/correspondents/{id}', { params: { path: { id } } })), onSuccess: () => { void client.invalidateQueries() } })
  const edit = (c: Person) => setEditing({ id: c.id, revision: c.revision, passwords: c.passwords, draft: { name: c.name, domains: c.domains, addresses: c.addresses, groups: c.groups } })
  const fresh = (draft: Partial<Draft> = {}) => setEditing({ passwords: 0, draft: { name: '', domains: [], addresses: [], groups: [], ...draft } })
  return (
    <section className="mb-10 max-w-4xl">
      <div className="mb-2 flex items-center justify-between"><h2>Correspondents</h2><Button onClick={() => fresh()}>Add a correspondent</Button></div>
      <p className="mb-2 text-ink-2">A name for the addresses and domains of a person or firm. Rules ask for it and folders are named by it.</p>
      <Wrong error={remove.error} />
      <Listing query={all} empty={(c) => c.length === 0 && 'Nobody is in the book yet.'}>
        {(list) => list.map((c) => (
          <div key={c.id} className="flex flex-wrap items-start justify-between gap-3 border-t border-line py-3">
            <div className="min-w-0">
              <p><span className="font-semibold">{c.name}</span> <span className="text-ink-3">{c.groups.join(', ')}</span></p>
              <p className="text-[14.5px] [overflow-wrap:anywhere] text-ink-2">{[...c.domains, ...c.addresses].join(', ')}{c.passwords > 0 && `; ${many(c.passwords, 'archive password')} kept`}</p>
            </div>
            <div className="flex gap-2"><Button onClick={() => edit(c)} aria-label={`Change ${c.name}`}>Change</Button><Button onClick={() => remove.mutate(c.id)} aria-label={`Remove ${c.name}`}>Remove</Button></div>
          </div>
        ))}
      </Listing>
      {!!proposals.data?.length && (
        <details className="mt-3"><summary className="font-semibold text-pen">{many(proposals.data.length, 'domain')} that write and are not in the book</summary>
          {proposals.data.map((p) => (
            <div key={p.domain} className="flex flex-wrap items-center justify-between gap-3 border-t border-line py-2">
              <p className="min-w-0 [overflow-wrap:anywhere]"><span className="font-semibold">{p.domain}</span> <span className="text-[14.5px] text-ink-3">{many(p.count, 'message')}, from {p.known.join(', ')}</span></p>
              <Button onClick={() => fresh({ name: p.name, domains: [p.domain] })} aria-label={`Add ${p.domain} to the book`}>Add</Button>
            </div>
          ))}
        </details>
      )}
      {editing && <PersonSheet {...editing} groups={[...new Set(all.data?.flatMap((c) => c.groups) ?? [])]} onClose={() => setEditing(null)} />}
    </section>
  )
}

function PersonSheet({ id, revision, passwords, draft, groups, onClose }: { id?: string; revision?: number; passwords: number; draft: Draft; groups: string[]; onClose: () => void }) {
  const client = useQueryClient()
  const [d, setD] = useState(draft)
  const [from, setFrom] = useState(revision)
  const [secrets, setSecrets] = useState('')
  const save = useMutation({
    mutationFn: () => {
      const body = { ...d, ...(secrets ? { passwords: secrets.split('\n').map((s) => s.trim()).filter(Boolean) } : {}) }
      return value(id ? api.PUT('/api/v1/correspondents/{id}', { params: { path: { id }, header: { 'If-Match': `"${from}"` } }, body }) : api.POST('/api/v1/correspondents', { body }))
    },
    onSuccess: () => { void client.invalidateQueries(); onClose() },
  })
  const wrong = (place: string) => { const text = fieldError(save.error, place); return text && <p role="alert" className="mt-1 text-sm text-seal">{text.charAt(0).toUpperCase() + text.slice(1)}.</p> }
  return (
    <Sheet title={id ? `Change ${draft.name}` : 'Add a correspondent'} open onClose={onClose}>
      <form onSubmit={(e) => { e.preventDefault(); save.mutate() }}>
        <Field label="Name" required value={d.name} onChange={(e) => setD({ ...d, name: e.target.value })} hint="As folders are to be called." error={fieldError(save.error, 'name')} />
        <div className="mb-4"><TextList label="Domains, with their subdomains" values={d.domains} onChange={(domains) => setD({ ...d, domains })} />{wrong('domains')}</div>
        <div className="mb-4"><TextList label="Single addresses" values={d.addresses} onChange={(addresses) => setD({ ...d, addresses })} />{wrong('addresses')}</div>
        <div className="mb-4"><TextList label="Groups to which they belong" values={d.groups} offered={groups.map((g) => ({ value: g }))} about="Groups there are:" onChange={(g) => setD({ ...d, groups: g })} />{wrong('groups')}</div>
        <label className="mb-4 block text-sm font-semibold">Passwords of archives that they send, one a line
          <textarea className="field mt-1 font-normal" rows={2} value={secrets} onChange={(e) => setSecrets(e.target.value)} placeholder={passwords ? `${passwords} kept; what you type here takes their place` : ''} />
          <span className="font-normal text-ink-3">Kept sealed and never shown again.</span>{wrong('passwords')}
        </label>
        {!fieldsOf(save.error, ['name', 'domains', 'addresses', 'groups', 'passwords']) && <Meanwhile error={save.error} mine={d} look={() => value(api.GET('/api/v1/correspondents')).then((l) => l.find((x) => x.id === id))} onMine={(t) => { setFrom(t.revision); save.reset() }} onTheirs={onClose} />}
        <div className="flex justify-end gap-2"><Button onClick={onClose}>Cancel</Button><Button look="main" type="submit" disabled={save.isPending}>{id ? 'Save' : 'Enter in the book'}</Button></div>
      </form>
    </Sheet>
  )
}

/** Tables in which patterns look something up. */
export function Tables() {
  const client = useQueryClient()
  const [editing, setEditing] = useState<Partial<Schemas['LookupTable']> | null>(null)
  const all = useQuery({ queryKey: ['tables'], queryFn: () => value(api.GET('/api/v1/tables')) })
  const remove = useMutation({ mutationFn: (id: string) => value(api.DELETE('/api/v1/tables/{id}', { params: { path: { id } } })), onSuccess: () => { void client.invalidateQueries() } })
  return (
    <section className="mb-10 max-w-4xl">
      <div className="mb-2 flex items-center justify-between"><h2>Tables</h2><Button onClick={() => setEditing({})}>Add a table</Button></div>
      <p className="mb-2 text-ink-2">What a code in a name stands for, such as the place of a station. Patterns look it up.</p>
      <Wrong error={remove.error} />
      <Listing query={all} empty={(t) => t.length === 0 && 'There is no table yet.'}>
        {(list) => list.map((t) => (
          <div key={t.id} className="flex flex-wrap items-start justify-between gap-3 border-t border-line py-3">
            <div className="min-w-0"><p><span className="font-semibold">{t.name}</span> <span className="text-ink-2">{many(t.rows.length, 'row')}</span></p><p className="truncate text-[14.5px] text-ink-3">{t.rows.slice(0, 4).map((r) => `${r.key}: ${r.value}`).join(', ')}{t.rows.length > 4 && ' …'}</p></div>
            <div className="flex gap-2"><Button onClick={() => setEditing(t)} aria-label={`Change ${t.name}`}>Change</Button><Button onClick={() => remove.mutate(t.id)} aria-label={`Remove ${t.name}`}>Remove</Button></div>
          </div>
        ))}
      </Listing>
      {editing && <TableSheet table={editing} onClose={() => setEditing(null)} />}
    </section>
  )
}

function TableSheet({ table, onClose }: { table: Partial<Schemas['LookupTable']>; onClose: () => void }) {
  const client = useQueryClient()
  const [from, setFrom] = useState(table.revision)
  const [name, setName] = useState(table.name ?? '')
  const [text, setText] = useState(table.rows?.map((r) => `${r.key} = ${r.value}`).join('\n') ?? '')
  const rows = text.split('\n').filter((l) => l.trim()).map((l) => { const at = l.indexOf('='); return { key: (at < 0 ? l : l.slice(0, at)).trim(), value: at < 0 ? '' : l.slice(at + 1).trim() } })
  const save = useMutation({
    mutationFn: () => value(table.id ? api.PUT('/api/v1/tables/{id}', { params: { path: { id: table.id }, header: { 'If-Match': `"${from}"` } }, body: { name, rows } }) : api.POST('/api/v1/tables', { body: { name, rows } })),
    onSuccess: () => { void client.invalidateQueries(); onClose() },
  })
  const at = fieldError(save.error, 'rows')
  return (
    <Sheet title={table.id ? `Change the table ${table.name}` : 'Add a table'} open onClose={onClose}>
      <form onSubmit={(e) => { e.preventDefault(); save.mutate() }}>
        <Field label="Name, in one word" required value={name} onChange={(e) => setName(e.target.value)} hint={`In a pattern: <lookup ${name || 'stations'} of (file.stem)>`} error={fieldError(save.error, 'name')} />
        <label className="mb-4 block text-sm font-semibold">Rows, one a line: what is looked up = what stands for it
          <textarea className="field mt-1 font-normal" rows={9} spellCheck={false} value={text} onChange={(e) => setText(e.target.value)} placeholder={'ST-03 = Ferry steps'} aria-invalid={!!at} />
          <span role={at ? 'alert' : undefined} className={`font-normal ${at ? 'text-seal' : 'text-ink-3'}`}>{at ? `${at.charAt(0).toUpperCase()}${at.slice(1)}.` : `${many(rows.length, 'row')}. Capitals and small letters count as the same.`}</span>
        </label>
        {!fieldsOf(save.error, ['name', 'rows']) && <Meanwhile error={save.error} mine={{ name, rows }} look={() => value(api.GET('/api/v1/tables')).then((l) => l.find((x) => x.id === table.id))} onMine={(t) => { setFrom(t.revision); save.reset() }} onTheirs={onClose} />}
        <div className="flex justify-end gap-2"><Button onClick={onClose}>Cancel</Button><Button look="main" type="submit" disabled={save.isPending}>{table.id ? 'Save' : 'Keep the table'}</Button></div>
      </form>
    </Sheet>
  )
}
