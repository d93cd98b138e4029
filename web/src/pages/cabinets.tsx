import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import type { UseFormRegisterReturn } from 'react-hook-form'
import { useNavigate } from 'react-router'

import { api, ifMatch, type Schemas, value } from '../api/client'
import { queries } from '../api/queries'
import { Button, Chip, Field, Lines, Listing, Pick, Sheet, Tick, Wrong } from '../ui/basics'
import { FolderField } from '../ui/folderpicker'
import { End, useSettings } from '../ui/form'
import { many, size } from '../ui/format'

type Cabinet = Schemas['Cabinet']
type Kind = Cabinet['kind']

const kinds: [Kind, string][] = [
  ['local', 'a folder on this machine, or a share that is mounted there'],
  ['webdav', 'a folder of a WebDAV server'],
  ['sftp', 'a folder of an SFTP server'],
  ['s3', 'a bucket of an object store (S3)'],
]

const places: Record<Kind, [label: string, hint: string]> = {
  local: ['Folder', 'The whole path on the machine that runs Ink Tray, such as /srv/harbour-files.'],
  webdav: ['Address', 'Such as https://files.brackwater.example/dav/harbour. The folder must be there.'],
  sftp: [
    'Address',
    'Such as sftp://files.brackwater.example/srv/harbour, or with /~/harbour for a folder within the account’s own. The folder must be there.',
  ],
  s3: [
    'Address',
    'The store, the bucket, and a folder in it if you like: https://objects.brackwater.example/harbour. The bucket must be there.',
  ],
}

const names: Record<Kind, [name: string, secret: string]> = {
  local: ['', ''],
  webdav: ['Sign-in name', 'Password'],
  sftp: ['Sign-in name', 'Password or private key'],
  s3: ['Access key', 'Secret key'],
}

/** The cabinets, in Settings. */
export function Cabinets({ onAdd, onRemove }: { onAdd: () => void; onRemove: (c: Cabinet) => void }) {
  const client = useQueryClient()
  const [editing, setEditing] = useState<Cabinet | null>(null)
  const [moving, setMoving] = useState<Cabinet | null>(null)
  const [found, setFound] = useState<Record<string, Cabinet>>({})
  const [looking, setLooking] = useState<Cabinet | null>(null)
  const cabinets = useQuery(queries.cabinets)
  const check = useMutation({
    mutationFn: (id: string) => value(api.POST('/api/v1/cabinets/{id}/check', { params: { path: { id } } })),
    onSuccess: (c) => {
      setFound((f) => ({ ...f, [c.id]: c }))
      client.setQueryData(queries.cabinets.queryKey, (all: Cabinet[] | undefined) =>
        all?.map((o) => (o.id === c.id ? c : o)),
      )
    },
  })
  return (
    <section className="mb-10 max-w-4xl">
      <div className="mb-2 flex items-center justify-between">
        <h2>Cabinets</h2>
        <Button onClick={onAdd}>Add a cabinet</Button>
      </div>
      <Wrong error={check.error} />
      <Listing query={cabinets} empty={(c) => c.length === 0 && 'There is no cabinet yet.'}>
        {(all) =>
          all.map((c) => (
            <div key={c.id} className="flex flex-wrap items-start justify-between gap-3 border-t border-line py-3">
              <div className="min-w-56 flex-1">
                <p>
                  <span className="font-semibold">{c.name}</span>{' '}
                  <span className="[overflow-wrap:anywhere] text-ink-2">{c.folder}</span>
                  {c.username && <span className="text-ink-3"> as {c.username}</span>}
                </p>
                {c.address && (
                  <p className="text-sm [overflow-wrap:anywhere] text-ink-3">for colleagues: {c.address}</p>
                )}
                {c.problem && <p className="text-sm text-seal">{c.problem}</p>}
                {!c.problem && found[c.id] && (
                  <div role="status">
                    <ul className="mt-1 text-sm text-ink-2">
                      {found[c.id].holds?.map((h) => (
                        <li key={h} className="[overflow-wrap:anywhere]">
                          ✓ {h}
                        </li>
                      ))}
                      {found[c.id].room !== undefined && <li>{size(found[c.id].room!)} are free</li>}
                    </ul>
                  </div>
                )}
              </div>
              <div className="flex flex-wrap items-center gap-2">
                <Chip word={c.problem ? 'out of reach' : 'in order'} />
                <Button disabled={check.isPending} onClick={() => check.mutate(c.id)}>
                  Check
                </Button>
                <Button onClick={() => setEditing(c)}>{c.kind === 'local' ? 'Address' : 'Change'}</Button>
                <Button onClick={() => setLooking(c)}>Files not in the register…</Button>
                <Button onClick={() => setMoving(c)}>Move…</Button>
                <Button onClick={() => onRemove(c)}>Remove</Button>
              </div>
            </div>
          ))
        }
      </Listing>
      {editing && <ChangeCabinetSheet cabinet={editing} onClose={() => setEditing(null)} />}
      {looking && <UnknownSheet cabinet={looking} onClose={() => setLooking(null)} />}
      {moving && <PlaceSheet cabinet={moving} onClose={() => setMoving(null)} />}
    </section>
  )
}

/** How a server is reached, as it is typed. */
type Reached = {
  username: string
  secret: string
  authority: string
  pinned: string
  proxy: string
  host_key: string
  region: string
}

const reached = (c?: Cabinet): Reached => ({
  username: c?.username ?? '',
  secret: '',
  authority: c?.authority ?? '',
  pinned: c?.pinned ?? '',
  proxy: c?.proxy ?? '',
  host_key: c?.host_key ?? '',
  region: c?.region ?? '',
})

type Bind = (name: keyof Reached) => UseFormRegisterReturn & { error?: string }

/** How a server is reached. */
function Reach({ kind, bind, kept }: { kind: Kind; bind: Bind; kept?: boolean }) {
  if (kind === 'local') return null
  const [name, secret] = names[kind]
  const sealed = kept
    ? 'Leave empty to keep it, if nothing else changes here.'
    : 'Ink Tray keeps it encrypted and never shows it.'
  return (
    <>
      <div className="grid gap-x-3 sm:grid-cols-2">
        <Field label={name} autoComplete="off" {...bind('username')} />
        {kind !== 'sftp' && (
          <Field label={secret} type="password" autoComplete="new-password" hint={sealed} {...bind('secret')} />
        )}
      </div>
      {kind === 'sftp' && (
        <>
          <Lines
            label={secret}
            code
            hint={
              kept
                ? sealed
                : 'A key as ssh-keygen writes it, or a password. Ink Tray keeps it encrypted and never shows it.'
            }
            {...bind('secret')}
          />
          <Field
            label="Host key"
            placeholder="SHA256:…"
            hint="Fingerprint of the server’s key, from the person who runs the server. If you leave it empty, Ink Tray shows the one that the server has, so that you can compare."
            {...bind('host_key')}
          />
        </>
      )}
      <details className="mb-4">
        <summary className="font-semibold text-pen">Certificates, proxy{kind === 's3' && ', region'}</summary>
        <div className="mt-3">
          {kind !== 'sftp' && (
            <>
              <Field
                label="Pinned certificate"
                hint="SHA-256 fingerprint of the server’s certificate. Ink Tray then accepts only this one."
                {...bind('pinned')}
              />
              <Lines
                label="Certificate of a private authority"
                code
                placeholder="-----BEGIN CERTIFICATE-----"
                {...bind('authority')}
              />
            </>
          )}
          <Field label="Proxy" placeholder="socks5://proxy.brackwater.example:1080" {...bind('proxy')} />
          {kind === 's3' && <Field label="Region" hint="Leave empty if the store has none." {...bind('region')} />}
        </div>
      </details>
    </>
  )
}

export function CabinetSheet({ onClose }: { onClose: () => void }) {
  return <PlaceSheet cabinet={null} onClose={onClose} />
}

type Place = Reached & { kind: Kind; name: string; folder: string; mode: string; owner: string; address: string }

/** Adds a cabinet, or moves one to another place. */
function PlaceSheet({ cabinet, onClose }: { cabinet: Cabinet | null; onClose: () => void }) {
  const go = useNavigate()
  const form = useSettings<Place, { id: number } | null>({
    values: {
      ...reached(),
      kind: 'local',
      name: '',
      folder: '',
      mode: '',
      owner: '',
      address: '',
    },
    save: async ({ kind, name, folder, mode, owner, address, ...server }) => {
      const place: Schemas['CabinetPlace'] = { folder, kind }
      if (kind === 'local') Object.assign(place, { mode: mode || undefined, owner: owner || undefined })
      else for (const [k, v] of Object.entries(server)) if (v) Object.assign(place, { [k]: v })
      if (!cabinet) {
        await value(api.POST('/api/v1/cabinets', { body: { ...place, name } }))
        return null
      }
      const body = { ...place, address: address || undefined }
      return value(api.POST('/api/v1/cabinets/{id}/move', { params: { path: { id: cabinet.id } }, body }))
    },
    saved: (pass) => {
      onClose()
      if (pass) void go(`/history/${pass.id}`)
    },
  })
  const { bind, now } = form
  const [label, hint] = places[now.kind]
  const become = (kind: Kind) => {
    form.set('kind', kind)
    for (const [k, v] of Object.entries(reached())) form.set(k as keyof Reached, v)
    form.saving.reset()
  }
  return (
    <Sheet title={cabinet ? `Move “${cabinet.name}”` : 'Add a cabinet'} open onClose={onClose}>
      <form onSubmit={form.submit}>
        {cabinet && (
          <p className="mb-4 text-ink-2">
            Ink Tray copies all files from <span className="[overflow-wrap:anywhere]">{cabinet.folder}</span> to another
            place and reads them back there. Filing goes on meanwhile, and continues at the new place. Rules and the
            register then use the new place. The old place keeps its files.
          </p>
        )}
        <Pick label={cabinet ? 'The new place' : 'What it is'} value={now.kind} choices={kinds} onChange={become} />
        {!cabinet && <Field label="Name" required hint="Any name, such as harbour files." {...bind('name')} />}
        {now.kind === 'local' ? (
          <FolderField
            label={label}
            required
            hint={hint}
            {...bind('folder')}
            path={now.folder}
            creates="Ink Tray creates the new folder when you add the cabinet."
            onChoose={(p) => form.set('folder', p)}
          />
        ) : (
          <Field label={label} required hint={hint} {...bind('folder')} />
        )}
        <Reach kind={now.kind} bind={bind} />
        {now.kind === 'local' && (
          <details className="mb-4">
            <summary className="font-semibold text-pen">Mode and owner of files</summary>
            <div className="mt-3 grid gap-x-3 sm:grid-cols-2">
              <Field
                label="Mode, in octal"
                placeholder="0640"
                hint="Leave empty for the system’s usual mode."
                {...bind('mode')}
              />
              <Field
                label="Owner"
                placeholder="office:files"
                hint="Leave empty for the user that runs Ink Tray."
                {...bind('owner')}
              />
            </div>
          </details>
        )}
        {cabinet && (
          <Field
            label="Address for colleagues"
            hint="How colleagues open the new place. Leave empty for none."
            {...bind('address')}
          />
        )}
        <p className="mb-4 text-sm text-ink-3">
          Ink Tray first tries whether files are safe there: that the place never overwrites a file, and that it
          replaces a file in one step.
        </p>
        <End of={form} label={cabinet ? 'Move' : 'Add'} busy="Trying the cabinet…" onClose={onClose} />
      </form>
    </Sheet>
  )
}

function ChangeCabinetSheet({ cabinet, onClose }: { cabinet: Cabinet; onClose: () => void }) {
  const was = reached(cabinet)
  const form = useSettings<Reached & { address: string }, unknown>({
    values: { ...was, address: cabinet.address ?? '' },
    revision: cabinet.revision,
    save: ({ address, ...s }, revision) => {
      const body: Schemas['CabinetChange'] = { address }
      for (const k of Object.keys(was) as (keyof Reached)[]) if (s[k] !== was[k]) body[k] = s[k]
      return value(
        api.PUT('/api/v1/cabinets/{id}', { params: { path: { id: cabinet.id }, header: ifMatch(revision) }, body }),
      )
    },
    saved: onClose,
  })
  return (
    <Sheet
      title={cabinet.kind === 'local' ? `How colleagues reach “${cabinet.name}”` : `Change “${cabinet.name}”`}
      open
      onClose={onClose}
    >
      <form onSubmit={form.submit}>
        <Reach kind={cabinet.kind} bind={form.bind} kept />
        <Field
          label={cabinet.kind === 'local' ? 'Address' : 'Address for colleagues'}
          hint={String.raw`A share such as \\files\harbour, a drive such as H:\harbour, or https://files.brackwater.example/harbour. Links in the register and in exports begin with it. Leave empty for none.`}
          {...form.bind('address')}
        />
        <End
          of={form}
          label="Save"
          onClose={onClose}
          mine={{ ...form.now, secret: undefined }}
          look={() => value(api.GET('/api/v1/cabinets')).then((l) => l.find((x) => x.id === cabinet.id))}
        />
      </form>
    </Sheet>
  )
}

/** Files of which the register knows nothing: to be seen, and to be entered. */
function UnknownSheet({ cabinet, onClose }: { cabinet: Cabinet; onClose: () => void }) {
  const client = useQueryClient()
  const [chosen, setChosen] = useState<string[]>([])
  const path = { path: { id: cabinet.id } }
  const found = useQuery({ ...queries.unknown(cabinet.id), gcTime: 0, retry: false })
  const enter = useMutation({
    mutationFn: () => value(api.POST('/api/v1/cabinets/{id}/unknown', { params: path, body: { paths: chosen } })),
    onSuccess: () => {
      setChosen([])
      void client.invalidateQueries()
    },
  })
  const all = found.data?.files ?? []
  return (
    <Sheet title={`Files of “${cabinet.name}” that are not in the register`} open onClose={onClose}>
      <p className="mb-3 text-ink-2">
        The register does not know these files. People put them there, or older records were restored after they were
        filed. Once entered, they are searched and verified like all others.
      </p>
      <Listing
        query={found}
        empty={(f) => f.files.length === 0 && `The register knows each of the ${many(f.looked, 'file')}.`}
      >
        {(f) => (
          <>
            <p className="mb-1 text-sm text-ink-3">
              {many(f.files.length, 'file')} of {f.looked.toLocaleString()}
              {f.more && '; there are more, these are the first'}
            </p>
            <div
              className="max-h-72 overflow-auto border-t border-line text-[14.5px]"
              tabIndex={0}
              role="region"
              aria-label="Files"
            >
              {f.files.map((one) => (
                <Tick
                  key={one.path}
                  className="border-b border-line py-1.5"
                  checked={chosen.includes(one.path)}
                  onChange={(on) => setChosen(on ? [...chosen, one.path] : chosen.filter((p) => p !== one.path))}
                  label={
                    <>
                      <span className="min-w-0 flex-1 [overflow-wrap:anywhere]">{one.path}</span>
                      <span className="shrink-0 text-ink-3">{size(one.size)}</span>
                    </>
                  }
                />
              ))}
            </div>
          </>
        )}
      </Listing>
      {enter.data && (
        <p role="status" className="mt-2">
          {many(enter.data.count, 'file')} entered in the register.
        </p>
      )}
      <Wrong error={enter.error} />
      <div className="mt-5 flex flex-wrap justify-end gap-2">
        {all.length > 0 && (
          <Button onClick={() => setChosen(chosen.length === all.length ? [] : all.map((f) => f.path))}>
            {chosen.length === all.length ? 'Choose none' : 'Choose all'}
          </Button>
        )}
        <Button onClick={onClose}>Close</Button>
        {all.length > 0 && (
          <Button look="main" disabled={chosen.length === 0 || enter.isPending} onClick={() => enter.mutate()}>
            Enter {chosen.length ? many(chosen.length, 'file') : 'them'} in the register
          </Button>
        )}
      </div>
    </Sheet>
  )
}
