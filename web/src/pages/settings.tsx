import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { useSearchParams } from 'react-router'

import { api, Problem, type Schemas, value } from '../api/client'
import { Button, Chip, Field, Listing, Page, Sheet, Wrong } from '../ui/basics'
import { when } from '../ui/format'
import { Correspondents, Tables } from './book'
import { fieldError, MailboxSheet, MailboxWays, whereItIs } from './mailboxes'
import { RegisterCare } from './registercare'
import { Telling } from './telling'

export function Settings() {
  const client = useQueryClient()
  const [search, setSearch] = useSearchParams()
  const [editing, setEditing] = useState<Schemas['Mailbox'] | null>(null)
  const [leaving, setLeaving] = useState<{ kind: 'mailbox' | 'cabinet'; id: string; name: string } | null>(null)
  const [addressing, setAddressing] = useState<Schemas['Cabinet'] | null>(null)
  const adding = search.get('add')
  const close = () => { setSearch({}, { replace: true }); setEditing(null) }
  const mailboxes = useQuery({ queryKey: ['mailboxes'], queryFn: () => value(api.GET('/api/v1/mailboxes')) })
  const cabinets = useQuery({ queryKey: ['cabinets'], queryFn: () => value(api.GET('/api/v1/cabinets')) })
  const check = useMutation({
    mutationFn: (id: string) => value(api.POST('/api/v1/cabinets/{id}/check', { params: { path: { id } } })),
    onSuccess: (c) => client.setQueryData(['cabinets'], (all: Schemas['Cabinet'][] | undefined) => all?.map((o) => (o.id === c.id ? c : o))),
  })
  const remove = useMutation({
    mutationFn: (what: { kind: 'mailbox' | 'cabinet'; id: string }) => value(what.kind === 'mailbox' ? api.DELETE('/api/v1/mailboxes/{id}', { params: { path: { id: what.id } } }) : api.DELETE('/api/v1/cabinets/{id}', { params: { path: { id: what.id } } })),
    onSuccess: () => { setLeaving(null); void client.invalidateQueries() },
  })
  return (
    <Page title="Settings" sub="Where messages arrive, where files are kept, who writes, and who is told.">
      <section className="mb-10 max-w-4xl">
        <div className="mb-2 flex items-center justify-between"><h2>Mailboxes</h2><Button onClick={() => setSearch({ add: 'mailbox' })}>Add a mailbox</Button></div>
        <Listing query={mailboxes} empty={(m) => m.length === 0 && 'No mailbox is watched yet.'}>
          {(all) => all.map((m) => (
            <div key={m.id} className="flex flex-wrap items-start justify-between gap-3 border-t border-line py-3">
              <div className="min-w-0">
                <p><span className="font-semibold">{m.name}</span> <span className="[overflow-wrap:anywhere] text-ink-2">{whereItIs(m)}</span></p>
                {m.problem && <p className="text-sm text-seal">{m.problem}. {m.advice}</p>}
                {m.looked_at && <p className="text-sm text-ink-3">last looked into {when(m.looked_at)}</p>}
              </div>
              <div className="flex flex-wrap items-center gap-2"><Chip word={m.state} /><MailboxWays mailbox={m} /><Button onClick={() => setEditing(m)}>Change</Button><Button onClick={() => setLeaving({ kind: 'mailbox', id: m.id, name: m.name })}>Remove</Button></div>
            </div>
          ))}
        </Listing>
      </section>
      <section className="mb-10 max-w-4xl">
        <div className="mb-2 flex items-center justify-between"><h2>Cabinets</h2><Button onClick={() => setSearch({ add: 'cabinet' })}>Add a cabinet</Button></div>
        <Wrong error={check.error} />
        <Listing query={cabinets} empty={(c) => c.length === 0 && 'There is no cabinet yet.'}>
          {(all) => all.map((c) => (
            <div key={c.id} className="flex flex-wrap items-start justify-between gap-3 border-t border-line py-3">
              <div className="min-w-0">
                <p><span className="font-semibold">{c.name}</span> <span className="[overflow-wrap:anywhere] text-ink-2">{c.folder}</span></p>
                {c.address && <p className="text-sm [overflow-wrap:anywhere] text-ink-3">for colleagues: {c.address}</p>}
                {c.problem && <p className="text-sm text-seal">{c.problem}</p>}
              </div>
              <div className="flex items-center gap-2"><Chip word={c.problem ? 'out of reach' : 'in order'} /><Button onClick={() => check.mutate(c.id)}>Check</Button><Button onClick={() => setAddressing(c)}>Address</Button><Button onClick={() => setLeaving({ kind: 'cabinet', id: c.id, name: c.name })}>Remove</Button></div>
            </div>
          ))}
        </Listing>
      </section>
      <Correspondents />
      <Tables />
      <Telling />
      <RegisterCare />
      {(adding === 'mailbox' || editing) && <MailboxSheet mailbox={editing} onClose={close} />}
      {adding === 'cabinet' && <CabinetSheet onClose={close} />}
      {addressing && <AddressSheet cabinet={addressing} onClose={() => setAddressing(null)} />}
      <Sheet title={`Remove “${leaving?.name ?? ''}”?`} open={!!leaving} onClose={() => { setLeaving(null); remove.reset() }}>
        <p>{leaving?.kind === 'mailbox' ? 'It is no longer watched and its password is forgotten. Messages that only Ink Tray keeps, of a drop address or of files, are removed with it. What was filed stays where it is, and so does the register.' : 'Ink Tray forgets it. Its files stay where they are, and so does the register.'}</p>
        <Wrong error={remove.error} />
        <div className="mt-5 flex justify-end gap-2"><Button onClick={() => { setLeaving(null); remove.reset() }}>Keep it</Button><Button look="seal" onClick={() => leaving && remove.mutate(leaving)}>Remove</Button></div>
      </Sheet>
    </Page>
  )
}

function CabinetSheet({ onClose }: { onClose: () => void }) {
  const client = useQueryClient()
  const [name, setName] = useState('')
  const [folder, setFolder] = useState('')
  const [mode, setMode] = useState('')
  const [owner, setOwner] = useState('')
  const save = useMutation({
    mutationFn: () => value(api.POST('/api/v1/cabinets', { body: { name, folder, kind: 'local', mode: mode || undefined, owner: owner || undefined } })),
    onSuccess: () => { void client.invalidateQueries(); onClose() },
  })
  const advice = save.error instanceof Problem && save.error.advice ? ' ' + save.error.advice : ''
  const at = fieldError(save.error, 'folder')
  return (
    <Sheet title="Add a cabinet" open onClose={onClose}>
      <form onSubmit={(e) => { e.preventDefault(); save.mutate() }}>
        <Field label="Name" required value={name} onChange={(e) => setName(e.target.value)} hint="What you call it, such as harbour files." error={fieldError(save.error, 'name')} />
        <Field label="Folder" required value={folder} onChange={(e) => setFolder(e.target.value)} hint="The whole path on the machine that runs Ink Tray, such as /srv/harbour-files." error={at && `${at}.${advice}`} />
        <details className="mb-4"><summary className="font-semibold text-pen">Mode and owner of files</summary>
          <div className="mt-3 grid gap-x-3 sm:grid-cols-2">
            <Field label="Mode, in octal" placeholder="0640" value={mode} onChange={(e) => setMode(e.target.value)} hint="Empty for the system’s own." />
            <Field label="Owner" placeholder="office:files" value={owner} onChange={(e) => setOwner(e.target.value)} hint="Empty for who runs Ink Tray." />
          </div>
        </details>
        {!at && !fieldError(save.error, 'name') && <Wrong error={save.error} />}
        <div className="flex justify-end gap-2"><Button onClick={onClose}>Cancel</Button><Button look="main" type="submit" disabled={save.isPending}>Add</Button></div>
      </form>
    </Sheet>
  )
}

function AddressSheet({ cabinet, onClose }: { cabinet: Schemas['Cabinet']; onClose: () => void }) {
  const client = useQueryClient()
  const [address, setAddress] = useState(cabinet.address ?? '')
  const save = useMutation({
    mutationFn: () => value(api.PUT('/api/v1/cabinets/{id}', { params: { path: { id: cabinet.id }, header: { 'If-Match': String(cabinet.revision) } }, body: { address } })),
    onSuccess: () => { void client.invalidateQueries(); onClose() },
  })
  const at = fieldError(save.error, 'address')
  return (
    <Sheet title={`How colleagues reach “${cabinet.name}”`} open onClose={onClose}>
      <form onSubmit={(e) => { e.preventDefault(); save.mutate() }}>
        <Field label="Address" value={address} onChange={(e) => setAddress(e.target.value)} hint={String.raw`A share such as \\files\harbour, a drive such as H:\harbour, or https://files.brackwater.example/harbour. Links in the register and in exports begin with it. Empty for none.`} error={at} />
        {!at && <Wrong error={save.error} />}
        <div className="flex justify-end gap-2"><Button onClick={onClose}>Cancel</Button><Button look="main" type="submit" disabled={save.isPending}>Save</Button></div>
      </form>
    </Sheet>
  )
}
