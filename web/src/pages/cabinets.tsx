import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { useNavigate } from 'react-router'

import { api, Problem, type Schemas, value } from '../api/client'
import { Button, Chip, Field, Listing, Pick, Sheet, Wrong } from '../ui/basics'
import { many, size } from '../ui/format'
import { Meanwhile } from '../ui/meanwhile'
import { fieldError } from './mailboxes'

type Cabinet = Schemas['Cabinet']
type Kind = Cabinet['kind']

const kinds: [Kind, string][] = [['local', 'a folder on this machine, or a share that is mounted there'], ['webdav', 'a folder of a WebDAV server'], ['sftp', 'a folder of an SFTP server'], ['s3', 'a bucket of an object store (S3)']]

const places: Record<Kind, [label: string, hint: string]> = {
  local: ['Folder', 'The whole path on the machine that runs Ink Tray, such as /srv/harbour-files.'],
  webdav: ['Address', 'Such as https://files.brackwater.example/dav/harbour. The folder must be there.'],
  sftp: ['Address', 'Such as sftp://files.brackwater.example/srv/harbour, or with /~/harbour for a folder within the account’s own. The folder must be there.'],
  s3: ['Address', 'The store, the bucket, and a folder in it if you like: https://objects.brackwater.example/harbour. The bucket must be there.'],
}

const names: Record<Kind, [name: string, secret: string]> = { local: ['', ''], webdav: ['Sign-in name', 'Password'], sftp: ['Sign-in name', 'Password or private key'], s3: ['Access key', 'Secret key'] }

/** The cabinets, in Settings. */
export function Cabinets({ onAdd, onRemove }: { onAdd: () => void; onRemove: (c: Cabinet) => void }) {
  const client = useQueryClient()
  const [editing, setEditing] = useState<Cabinet | null>(null)
  const [moving, setMoving] = useState<Cabinet | null>(null)
  const [found, setFound] = useState<Record<string, Cabinet>>({})
  const [looking, setLooking] = useState<Cabinet | null>(null)
  const cabinets = useQuery({ queryKey: ['cabinets'], queryFn: () => value(api.GET('/api/v1/cabinets')) })
  const check = useMutation({
    mutationFn: (id: string) => value(api.POST('/api/v1/cabinets/{id}/check', { params: { path: { id } } })),
    onSuccess: (c) => {
      setFound((f) => ({ ...f, [c.id]: c }))
      client.setQueryData(['cabinets'], (all: Cabinet[] | undefined) => all?.map((o) => (o.id === c.id ? c : o)))
    },
  })
  return (
    <section className="mb-10 max-w-4xl">
      <div className="mb-2 flex items-center justify-between"><h2>Cabinets</h2><Button onClick={onAdd}>Add a cabinet</Button></div>
      <Wrong error={check.error} />
      <Listing query={cabinets} empty={(c) => c.length === 0 && 'There is no cabinet yet.'}>
        {(all) => all.map((c) => (
          <div key={c.id} className="flex flex-wrap items-start justify-between gap-3 border-t border-line py-3">
            <div className="min-w-56 flex-1">
              <p><span className="font-semibold">{c.name}</span> <span className="[overflow-wrap:anywhere] text-ink-2">{c.folder}</span>{c.username && <span className="text-ink-3"> as {c.username}</span>}</p>
              {c.address && <p className="text-sm [overflow-wrap:anywhere] text-ink-3">for colleagues: {c.address}</p>}
              {c.problem && <p className="text-sm text-seal">{c.problem}</p>}
              {!c.problem && found[c.id] && <div role="status"><ul className="mt-1 text-sm text-ink-2">{found[c.id].holds?.map((h) => <li key={h} className="[overflow-wrap:anywhere]">✓ {h}</li>)}{found[c.id].room !== undefined && <li>{size(found[c.id].room!)} are free</li>}</ul></div>}
            </div>
            <div className="flex flex-wrap items-center gap-2"><Chip word={c.problem ? 'out of reach' : 'in order'} /><Button disabled={check.isPending} onClick={() => check.mutate(c.id)}>Check</Button><Button onClick={() => setEditing(c)}>{c.kind === 'local' ? 'Address' : 'Change'}</Button><Button onClick={() => setLooking(c)}>Files without a line…</Button><Button onClick={() => setMoving(c)}>Move…</Button><Button onClick={() => onRemove(c)}>Remove</Button></div>
          </div>
        ))}
      </Listing>
      {editing && <ChangeCabinetSheet cabinet={editing} onClose={() => setEditing(null)} />}
      {looking && <UnknownSheet cabinet={looking} onClose={() => setLooking(null)} />}
      {moving && <PlaceSheet cabinet={moving} onClose={() => setMoving(null)} />}
    </section>
  )
}

type Reached = { username: string; secret: string; authority: string; pinned: string; proxy: string; host_key: string; region: string }
const nothing: Reached = { username: '', secret: '', authority: '', pinned: '', proxy: '', host_key: '', region: '' }

/** How a server is reached. */
function Reach({ kind, s, put, kept, error }: { kind: Kind; s: Reached; put: (c: Partial<Reached>) => void; kept?: boolean; error: unknown }) {
  if (kind === 'local') return null
  const [name, secret] = names[kind]
  return (
    <>
      <div className="grid gap-x-3 sm:grid-cols-2">
        <Field label={name} autoComplete="off" value={s.username} onChange={(e) => put({ username: e.target.value })} error={fieldError(error, 'username')} />
        {kind !== 'sftp' && <Field label={secret} type="password" autoComplete="new-password" value={s.secret} onChange={(e) => put({ secret: e.target.value })} hint={kept ? 'Empty keeps the one that is there, if nothing else here changes.' : 'It is kept sealed and never shown again.'} error={fieldError(error, 'secret')} />}
      </div>
      {kind === 'sftp' && (
        <>
          <label className="mb-4 block text-sm font-semibold">{secret}<textarea className="field mt-1 min-h-20 font-mono text-sm font-normal" spellCheck={false} value={s.secret} onChange={(e) => put({ secret: e.target.value })} /><span className="mt-1 block text-sm font-normal text-ink-3">{fieldError(error, 'secret') || (kept ? 'Empty keeps the one that is there, if nothing else here changes.' : 'A key as ssh-keygen writes it, or a password. It is kept sealed and never shown again.')}</span></label>
          <Field label="Host key" placeholder="SHA256:…" value={s.host_key} onChange={(e) => put({ host_key: e.target.value })} hint="Fingerprint of the server’s key, from whoever runs it. Without it the attempt shows the one that was met, to be compared." />
        </>
      )}
      <details className="mb-4"><summary className="font-semibold text-pen">Certificates, proxy{kind === 's3' && ', region'}</summary>
        <div className="mt-3">
          {kind !== 'sftp' && <><Field label="Pinned certificate" value={s.pinned} onChange={(e) => put({ pinned: e.target.value })} hint="SHA-256 fingerprint of the server’s certificate, which is then all that counts." />
            <label className="mb-4 block text-sm font-semibold">Certificate of a private authority<textarea className="field mt-1 min-h-20 font-mono text-sm font-normal" spellCheck={false} placeholder="-----BEGIN CERTIFICATE-----" value={s.authority} onChange={(e) => put({ authority: e.target.value })} /></label></>}
          <Field label="Proxy" placeholder="socks5://proxy.brackwater.example:1080" value={s.proxy} onChange={(e) => put({ proxy: e.target.value })} />
          {kind === 's3' && <Field label="Region" value={s.region} onChange={(e) => put({ region: e.target.value })} hint="Empty where the store has none." />}
        </div>
      </details>
    </>
  )
}

export function CabinetSheet({ onClose }: { onClose: () => void }) {
  return <PlaceSheet cabinet={null} onClose={onClose} />
}

/** Adds a cabinet, or moves one to another place. */
function PlaceSheet({ cabinet, onClose }: { cabinet: Cabinet | null; onClose: () => void }) {
  const client = useQueryClient()
  const go = useNavigate()
  const [kind, setKind] = useState<Kind>('local')
  const [name, setName] = useState('')
  const [folder, setFolder] = useState('')
  const [mode, setMode] = useState('')
  const [owner, setOwner] = useState('')
  const [address, setAddress] = useState('')
  const [s, set] = useState(nothing)
  const save = useMutation({
    mutationFn: async () => {
      const place: Schemas['CabinetPlace'] = { folder, kind }
      if (kind === 'local') Object.assign(place, { mode: mode || undefined, owner: owner || undefined })
      else for (const [k, v] of Object.entries(s)) if (v) Object.assign(place, { [k]: v })
      if (cabinet) return (await value(api.POST('/api/v1/cabinets/{id}/move', { params: { path: { id: cabinet.id } }, body: { ...place, address: address || undefined } }))).id
      await value(api.POST('/api/v1/cabinets', { body: { ...place, name } }))
      return null
    },
    onSuccess: (pass) => { void client.invalidateQueries(); onClose(); if (pass !== null) void go(`/history/${pass}`) },
  })
  const advice = save.error instanceof Problem && save.error.advice ? ' ' + save.error.advice : ''
  const at = fieldError(save.error, 'folder')
  const [label, hint] = places[kind]
  const become = (k: Kind) => { setKind(k); set(nothing); save.reset() }
  return (
    <Sheet title={cabinet ? `Move “${cabinet.name}”` : 'Add a cabinet'} open onClose={onClose}>
      <form onSubmit={(e) => { e.preventDefault(); save.mutate() }}>
        {cabinet && <p className="mb-4 text-ink-2">All of its files are copied from <span className="[overflow-wrap:anywhere]">{cabinet.folder}</span> to another place and read back there. Filing goes on meanwhile, waits for a moment at the end, and goes on at the new place. Rules and register lead there then; the old place keeps its files.</p>}
        <Pick label={cabinet ? 'The new place' : 'What it is'} value={kind} choices={kinds} onChange={(v) => become(v as Kind)} />
        {!cabinet && <Field label="Name" required value={name} onChange={(e) => setName(e.target.value)} hint="What you call it, such as harbour files." error={fieldError(save.error, 'name')} />}
        <Field label={label} required value={folder} onChange={(e) => setFolder(e.target.value)} hint={hint} error={at && `${at}.${advice}`} />
        <Reach kind={kind} s={s} put={(c) => set((o) => ({ ...o, ...c }))} error={save.error} />
        {kind === 'local' && (
          <details className="mb-4"><summary className="font-semibold text-pen">Mode and owner of files</summary>
            <div className="mt-3 grid gap-x-3 sm:grid-cols-2">
              <Field label="Mode, in octal" placeholder="0640" value={mode} onChange={(e) => setMode(e.target.value)} hint="Empty for the system’s own." />
              <Field label="Owner" placeholder="office:files" value={owner} onChange={(e) => setOwner(e.target.value)} hint="Empty for who runs Ink Tray." />
            </div>
          </details>
        )}
        {cabinet && <Field label="Address for colleagues" value={address} onChange={(e) => setAddress(e.target.value)} hint="How they reach the new place. Empty for none." error={fieldError(save.error, 'address')} />}
        <p className="mb-4 text-sm text-ink-3">First it is tried out whether files are safe there: that a name that is taken is refused, and that a list is replaced in one step.</p>
        {!at && !fieldError(save.error, 'name') && !fieldError(save.error, 'address') && <Wrong error={save.error} />}
        <div className="flex justify-end gap-2"><Button onClick={onClose}>Cancel</Button><Button look="main" type="submit" disabled={save.isPending}>{save.isPending ? 'Trying it out…' : cabinet ? 'Move' : 'Add'}</Button></div>
      </form>
    </Sheet>
  )
}

function ChangeCabinetSheet({ cabinet, onClose }: { cabinet: Cabinet; onClose: () => void }) {
  const client = useQueryClient()
  const [address, setAddress] = useState(cabinet.address ?? '')
  const was: Reached = { username: cabinet.username ?? '', secret: '', authority: cabinet.authority ?? '', pinned: cabinet.pinned ?? '', proxy: cabinet.proxy ?? '', host_key: cabinet.host_key ?? '', region: cabinet.region ?? '' }
  const [s, set] = useState(was)
  const [from, setFrom] = useState(cabinet.revision)
  const save = useMutation({
    mutationFn: () => {
      const body: Schemas['CabinetChange'] = { address }
      for (const k of Object.keys(was) as (keyof Reached)[]) if (s[k] !== was[k]) body[k] = s[k]
      return value(api.PUT('/api/v1/cabinets/{id}', { params: { path: { id: cabinet.id }, header: { 'If-Match': `"${from}"` } }, body }))
    },
    onSuccess: () => { void client.invalidateQueries(); onClose() },
  })
  const at = fieldError(save.error, 'address')
  return (
    <Sheet title={cabinet.kind === 'local' ? `How colleagues reach “${cabinet.name}”` : `Change “${cabinet.name}”`} open onClose={onClose}>
      <form onSubmit={(e) => { e.preventDefault(); save.mutate() }}>
        <Reach kind={cabinet.kind} s={s} put={(c) => set((o) => ({ ...o, ...c }))} kept error={save.error} />
        <Field label={cabinet.kind === 'local' ? 'Address' : 'Address for colleagues'} value={address} onChange={(e) => setAddress(e.target.value)} hint={String.raw`A share such as \\files\harbour, a drive such as H:\harbour, or https://files.brackwater.example/harbour. Links in the register and in exports begin with it. Empty for none.`} error={at} />
        {!at && <Meanwhile error={save.error} mine={{ address, ...s, secret: undefined }} look={() => value(api.GET('/api/v1/cabinets')).then((l) => l.find((x) => x.id === cabinet.id))} onMine={(t) => { setFrom(t.revision); save.reset() }} onTheirs={onClose} />}
        <div className="flex justify-end gap-2"><Button onClick={onClose}>Cancel</Button><Button look="main" type="submit" disabled={save.isPending}>Save</Button></div>
      </form>
    </Sheet>
  )
}

/** Files of which the register knows nothing: to be seen, and to be entered. */
function UnknownSheet({ cabinet, onClose }: { cabinet: Cabinet; onClose: () => void }) {
  const client = useQueryClient()
  const [chosen, setChosen] = useState<string[]>([])
  const path = { path: { id: cabinet.id } }
  const found = useQuery({ queryKey: ['unknown', cabinet.id], gcTime: 0, retry: false, queryFn: () => value(api.GET('/api/v1/cabinets/{id}/unknown', { params: { ...path, query: { most: 1000 } } })) })
  const enter = useMutation({
    mutationFn: () => value(api.POST('/api/v1/cabinets/{id}/unknown', { params: path, body: { paths: chosen } })),
    onSuccess: () => { setChosen([]); void client.invalidateQueries() },
  })
  const all = found.data?.files ?? []
  return (
    <Sheet title={`Files of “${cabinet.name}” without a line`} open onClose={onClose}>
      <p className="mb-3 text-ink-2">The register knows nothing of these: people put them there, or older records were put back since they were filed. Entered, they are found and verified like any other.</p>
      <Listing query={found} empty={(f) => f.files.length === 0 && `The register knows each of the ${many(f.looked, 'file')}.`}>
        {(f) => (
          <>
            <p className="mb-1 text-sm text-ink-3">{many(f.files.length, 'file')} of {f.looked.toLocaleString()}{f.more && '; there are more, these are the first'}</p>
            <div className="max-h-72 overflow-auto border-t border-line text-[14.5px]" tabIndex={0} role="region" aria-label="Files">
              {f.files.map((one) => (
                <label key={one.path} className="flex items-start gap-2 border-b border-line py-1.5">
                  <input type="checkbox" className="mt-1 size-4 accent-[var(--pen)]" checked={chosen.includes(one.path)} onChange={(e) => setChosen(e.target.checked ? [...chosen, one.path] : chosen.filter((p) => p !== one.path))} />
                  <span className="min-w-0 flex-1 [overflow-wrap:anywhere]">{one.path}</span><span className="shrink-0 text-ink-3">{size(one.size)}</span>
                </label>
              ))}
            </div>
          </>
        )}
      </Listing>
      {enter.data && <p role="status" className="mt-2">{many(enter.data.count, 'file')} entered in the register.</p>}
      <Wrong error={enter.error} />
      <div className="mt-5 flex flex-wrap justify-end gap-2">
        {all.length > 0 && <Button onClick={() => setChosen(chosen.length === all.length ? [] : all.map((f) => f.path))}>{chosen.length === all.length ? 'Choose none' : 'Choose all'}</Button>}
        <Button onClick={onClose}>Close</Button>
        {all.length > 0 && <Button look="main" disabled={chosen.length === 0 || enter.isPending} onClick={() => enter.mutate()}>Enter {chosen.length ? many(chosen.length, 'file') : 'them'} in the register</Button>}
      </div>
    </Sheet>
  )
}
