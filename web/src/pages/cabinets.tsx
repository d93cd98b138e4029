import { plural, t } from '@lingui/core/macro'
import { Plural, Trans } from '@lingui/react/macro'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import type { UseFormRegisterReturn } from 'react-hook-form'
import { useNavigate } from 'react-router'

import { api, ifMatch, type Schemas, value } from '../api/client'
import { queries } from '../api/queries'
import { Button, Chip, Field, Lines, Listing, Pick, Sheet, Tick, Wrong } from '../ui/basics'
import { FolderField, type Shelf } from '../ui/folderpicker'
import { End, useSettings } from '../ui/form'
import { figure, size } from '../ui/format'

type Cabinet = Schemas['Cabinet']
type Kind = Cabinet['kind']

const kinds: [Kind, string][] = [
  ['local', t`a folder on this machine, or a share that is mounted there`],
  ['webdav', t`a folder of a WebDAV server`],
  ['sftp', t`a folder of an SFTP server`],
  ['s3', t`a bucket of an object store (S3)`],
]

const places: Record<Kind, [label: string, hint: string]> = {
  local: [t`Folder`, t`The whole path on the machine that runs Ink Tray, such as /srv/harbour-files.`],
  webdav: [
    t`Address`,
    t`Such as https://files.brackwater.example/dav/harbour. The folder must be there; “Choose…” can create it.`,
  ],
  sftp: [
    t`Address`,
    t`Such as sftp://files.brackwater.example/srv/harbour, or with /~/harbour for a folder within the account’s own. The folder must be there; “Choose…” can create it.`,
  ],
  s3: [
    t`Address`,
    t`The store, the bucket, and a folder in it if you like: https://objects.brackwater.example/harbour. The bucket must be there.`,
  ],
}

const names: Record<Kind, [name: string, secret: string]> = {
  local: ['', ''],
  webdav: [t`Sign-in name`, t`Password`],
  sftp: [t`Sign-in name`, t`Password or private key`],
  s3: [t`Access key`, t`Secret key`],
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
        <h2>
          <Trans>Cabinets</Trans>
        </h2>
        <Button onClick={onAdd}>
          <Trans>Add a cabinet</Trans>
        </Button>
      </div>
      <Wrong error={check.error} />
      <Listing query={cabinets} empty={(c) => c.length === 0 && t`There is no cabinet yet.`}>
        {(all) =>
          all.map((c) => (
            <div key={c.id} className="flex flex-wrap items-start justify-between gap-3 border-t border-line py-3">
              <div className="min-w-56 flex-1">
                <p>
                  <span className="font-semibold">{c.name}</span>{' '}
                  <span className="[overflow-wrap:anywhere] text-ink-2">{c.folder}</span>
                  {c.username && (
                    <span className="text-ink-3">
                      <Trans> as {c.username}</Trans>
                    </span>
                  )}
                </p>
                {c.address && (
                  <p className="text-sm [overflow-wrap:anywhere] text-ink-3">
                    <Trans>for colleagues: {c.address}</Trans>
                  </p>
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
                      {found[c.id].room !== undefined && (
                        <li>
                          <Trans>{size(found[c.id].room!)} are free</Trans>
                        </li>
                      )}
                    </ul>
                  </div>
                )}
              </div>
              <div className="flex flex-wrap items-center gap-2">
                <Chip word={c.problem ? 'out of reach' : 'in order'} />
                <Button disabled={check.isPending} onClick={() => check.mutate(c.id)}>
                  <Trans>Check</Trans>
                </Button>
                <Button onClick={() => setEditing(c)}>{c.kind === 'local' ? t`Address` : t`Change`}</Button>
                <Button onClick={() => setLooking(c)}>
                  <Trans>Files not in the register…</Trans>
                </Button>
                <Button onClick={() => setMoving(c)}>
                  <Trans>Move…</Trans>
                </Button>
                <Button onClick={() => onRemove(c)}>
                  <Trans>Remove</Trans>
                </Button>
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
    ? t`Leave empty to keep it, if nothing else changes here.`
    : t`Ink Tray keeps it encrypted and never shows it.`
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
                : t`A key as ssh-keygen writes it, or a password. Ink Tray keeps it encrypted and never shows it.`
            }
            {...bind('secret')}
          />
          <Field
            label={t`Host key`}
            placeholder={t`SHA256:…`}
            hint={t`Fingerprint of the server’s key, from the person who runs the server. If you leave it empty, Ink Tray shows the one that the server has, so that you can compare.`}
            {...bind('host_key')}
          />
        </>
      )}
      <details className="mb-4">
        <summary className="font-semibold text-pen">
          <Trans>Certificates, proxy{kind === 's3' && t`, region`}</Trans>
        </summary>
        <div className="mt-3">
          {kind !== 'sftp' && (
            <>
              <Field
                label={t`Pinned certificate`}
                hint={t`SHA-256 fingerprint of the server’s certificate. Ink Tray then accepts only this one.`}
                {...bind('pinned')}
              />
              <Lines
                label={t`Certificate of a private authority`}
                code
                placeholder={t`-----BEGIN CERTIFICATE-----`}
                {...bind('authority')}
              />
            </>
          )}
          <Field label={t`Proxy`} placeholder={t`socks5://proxy.brackwater.example:1080`} {...bind('proxy')} />
          {kind === 's3' && (
            <Field label={t`Region`} hint={t`Leave empty if the store has none.`} {...bind('region')} />
          )}
        </div>
      </details>
    </>
  )
}

export function CabinetSheet({ onClose }: { onClose: () => void }) {
  return <PlaceSheet cabinet={null} onClose={onClose} />
}

type Place = Reached & { kind: Kind; name: string; folder: string; mode: string; owner: string; address: string }

/** The folders of a server, as it is reached by what is typed. */
function server({ kind, folder: address, username, secret, authority, pinned, proxy, host_key, region }: Place): Shelf {
  const body: Schemas['ServerPlace'] = { kind, folder: '' }
  for (const [k, v] of Object.entries({ username, secret, authority, pinned, proxy, host_key, region }))
    if (v) Object.assign(body, { [k]: v })
  return {
    says: t`On the server: `,
    top: address.match(kind === 's3' ? /^\w+:\/\/[^/]+\/[^/]+/ : /^\w+:\/\/[^/]+/)?.[0] ?? '',
    list: (folder, make) => value(api.POST('/api/v1/server-folders', { body: { ...body, folder, make } })),
  }
}

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
    <Sheet title={cabinet ? t`Move “${cabinet.name}”` : t`Add a cabinet`} open onClose={onClose}>
      <form onSubmit={form.submit}>
        {cabinet && (
          <p className="mb-4 text-ink-2">
            <Trans>
              Ink Tray copies all files from <span className="[overflow-wrap:anywhere]">{cabinet.folder}</span> to
              another place and reads them back there. Filing goes on meanwhile, and continues at the new place. Rules
              and the register then use the new place. The old place keeps its files.
            </Trans>
          </p>
        )}
        <Pick label={cabinet ? t`The new place` : t`What it is`} value={now.kind} choices={kinds} onChange={become} />
        {!cabinet && <Field label={t`Name`} required hint={t`Any name, such as harbour files.`} {...bind('name')} />}
        <FolderField
          label={label}
          required
          hint={hint}
          {...bind('folder')}
          path={now.folder}
          on={now.kind === 'local' ? undefined : server(now)}
          creates={
            now.kind === 'local'
              ? t`Ink Tray creates the new folder when you add the cabinet.`
              : t`Ink Tray creates it on the server when you press “Use this folder”.`
          }
          onChoose={(p) => form.set('folder', p)}
        />
        <Reach kind={now.kind} bind={bind} />
        {now.kind === 'local' && (
          <details className="mb-4">
            <summary className="font-semibold text-pen">
              <Trans>Mode and owner of files</Trans>
            </summary>
            <div className="mt-3 grid gap-x-3 sm:grid-cols-2">
              <Field
                label={t`Mode, in octal`}
                placeholder="0640"
                hint={t`Leave empty for the system’s usual mode.`}
                {...bind('mode')}
              />
              <Field
                label={t`Owner`}
                placeholder={t`office:files`}
                hint={t`Leave empty for the user that runs Ink Tray.`}
                {...bind('owner')}
              />
            </div>
          </details>
        )}
        {cabinet && (
          <Field
            label={t`Address for colleagues`}
            hint={t`How colleagues open the new place. Leave empty for none.`}
            {...bind('address')}
          />
        )}
        <p className="mb-4 text-sm text-ink-3">
          <Trans>
            Ink Tray first tries whether files are safe there: that the place never overwrites a file, and that it
            replaces a file in one step.
          </Trans>
        </p>
        <End of={form} label={cabinet ? t`Move` : t`Add`} busy={t`Trying the cabinet…`} onClose={onClose} />
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
      title={cabinet.kind === 'local' ? t`How colleagues reach “${cabinet.name}”` : t`Change “${cabinet.name}”`}
      open
      onClose={onClose}
    >
      <form onSubmit={form.submit}>
        <Reach kind={cabinet.kind} bind={form.bind} kept />
        <Field
          label={cabinet.kind === 'local' ? t`Address` : t`Address for colleagues`}
          hint={String.raw`A share such as \\files\harbour, a drive such as H:\harbour, or https://files.brackwater.example/harbour. Links in the register and in exports begin with it. Leave empty for none.`}
          {...form.bind('address')}
        />
        <End
          of={form}
          label={t`Save`}
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
    <Sheet title={t`Files of “${cabinet.name}” that are not in the register`} open onClose={onClose}>
      <p className="mb-3 text-ink-2">
        <Trans>
          The register does not know these files. People put them there, or older records were restored after they were
          filed. Once entered, they are searched and verified like all others.
        </Trans>
      </p>
      <Listing
        query={found}
        empty={(f) =>
          f.files.length === 0 &&
          t`The register knows each of the ${plural(f.looked, { one: '# file', other: '# files' })}.`
        }
      >
        {(f) => (
          <>
            <p className="mb-1 text-sm text-ink-3">
              <Trans>
                <Plural value={f.files.length} one="# file" other="# files" /> of {figure(f.looked)}
                {f.more && t`; there are more, these are the first`}
              </Trans>
            </p>
            <div
              className="max-h-72 overflow-auto border-t border-line text-[14.5px]"
              tabIndex={0}
              role="region"
              aria-label={t`Files`}
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
          <Trans>
            <Plural value={enter.data.count} one="# file" other="# files" /> entered in the register.
          </Trans>
        </p>
      )}
      <Wrong error={enter.error} />
      <div className="mt-5 flex flex-wrap justify-end gap-2">
        {all.length > 0 && (
          <Button onClick={() => setChosen(chosen.length === all.length ? [] : all.map((f) => f.path))}>
            {chosen.length === all.length ? t`Choose none` : t`Choose all`}
          </Button>
        )}
        <Button onClick={onClose}>
          <Trans>Close</Trans>
        </Button>
        {all.length > 0 && (
          <Button look="main" disabled={chosen.length === 0 || enter.isPending} onClick={() => enter.mutate()}>
            <Plural
              value={chosen.length}
              _0="Enter them in the register"
              one="Enter # file in the register"
              other="Enter # files in the register"
            />
          </Button>
        )}
      </div>
    </Sheet>
  )
}
