import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'

import { api, ifMatch, type Schemas, value } from '../api/client'
import { keys, queries } from '../api/queries'
import { Button, Chip, Field, Listing, Page, Pick, Sheet, Tick, Wrong } from '../ui/basics'
import { End, useSettings } from '../ui/form'
import { exactly, when } from '../ui/format'
import { useOwnAddress } from '../ui/office'
import { labelOf } from '../ui/labels'
import { SignInCare } from './factor'
import { Keys } from './you'
import { Remover } from '../ui/remover'
import { address } from '../api/where'

/** Who may sign in, what each may see, and what they did. For administrators. */
export function People() {
  return (
    <Page title={t`People`} sub={t`Who may sign in, what each of them may see, and what they did.`}>
      <Everybody />
      <Groups />
      <section className="mb-10">
        <h2 className="mb-2">
          <Trans>Sessions and tokens of everyone</Trans>
        </h2>
        <Keys all />
      </section>
      <SignInCare />
      <Trail />
    </Page>
  )
}

const roles: [Schemas['Role'], string][] = [
  ['reader', t`reader: sees filed files`],
  ['clerk', t`clerk: also works with the tray, and files by hand`],
  ['administrator', t`administrator: sees everything and changes the settings`],
]

const seeing = (all: boolean, names: string[]) => (all ? t`all` : names.length === 0 ? t`none` : names.join(', '))

/** What a person or a group sees, in one line. */
const sight = (r: Schemas['Rights']) =>
  t`mailboxes: ${seeing(r.all_mailboxes, r.mailboxes)}; cabinets: ${seeing(r.all_cabinets, r.cabinets)}`

function Everybody() {
  const client = useQueryClient()
  const query = useQuery(queries.people)
  const [editing, setEditing] = useState<Schemas['Person'] | 'new' | null>(null)
  const [link, setLink] = useState<Schemas['Invited'] | null>(null)
  const changed = () => client.invalidateQueries({ queryKey: keys.people })
  const lock = useMutation({
    mutationFn: (p: Schemas['Person']) =>
      value(
        api.PUT('/api/v1/people/{id}/lock', {
          params: { path: { id: p.id } },
          body: { locked: p.state !== 'locked' },
        }),
      ),
    onSuccess: changed,
  })
  const renew = useMutation({
    mutationFn: (p: Schemas['Person']) =>
      value(api.POST('/api/v1/people/{id}/link', { params: { path: { id: p.id } }, body: { days: 3, send: false } })),
    onSuccess: setLink,
  })
  return (
    <section className="mb-10">
      <div className="mb-2 flex items-center justify-between">
        <h2>
          <Trans>Everyone</Trans>
        </h2>
        <Button look="main" onClick={() => setEditing('new')}>
          <Trans>Invite a person</Trans>
        </Button>
      </div>
      <Wrong error={lock.error ?? renew.error} />
      <Listing query={query}>
        {(all) =>
          all.map((p) => (
            <div key={p.id} className="flex flex-wrap items-start justify-between gap-3 border-t border-line py-3">
              <div className="min-w-0">
                <p className="[overflow-wrap:anywhere]">
                  <span className="font-semibold">{p.name}</span> <span className="text-ink-2">{labelOf(p.role)}</span>
                </p>
                <p className="text-sm text-ink-3">
                  {sight(p.rights)}
                  {p.groups.length > 0 && t`; and what these groups see: ${p.groups.join(', ')}`}
                </p>
                <p className="text-sm text-ink-3">
                  {p.signed_in_at ? t`signed in ${when(p.signed_in_at)}` : t`has not signed in yet`}
                  {p.second_factor && t`; has a second factor`}
                  {p.office && t`; signs in through the office’s sign-in`}
                </p>
              </div>
              <div className="flex flex-wrap items-center gap-2">
                <Chip word={p.state} />
                <Button onClick={() => setEditing(p)} aria-label={t`Change ${p.name}`}>
                  <Trans>Change</Trans>
                </Button>
                <Button onClick={() => renew.mutate(p)} aria-label={t`New link for ${p.name}`}>
                  <Trans>New link</Trans>
                </Button>
                {p.second_factor && (
                  <Remover
                    label={t`Remove factor`}
                    name={t`the second factor of ${p.name}`}
                    lost={t`Until another factor is set up, the password alone is enough to sign in. Do this if the person lost the app.`}
                    remove={() => value(api.DELETE('/api/v1/people/{id}/factor', { params: { path: { id: p.id } } }))}
                  />
                )}
                <Button onClick={() => lock.mutate(p)}>{p.state === 'locked' ? t`Let in again` : t`Lock`}</Button>
                <Remover
                  name={p.name}
                  lost={t`All sessions and tokens of this person end, and programs that use these tokens stop working. The record of what the person did stays.`}
                  remove={() => value(api.DELETE('/api/v1/people/{id}', { params: { path: { id: p.id } } }))}
                />
              </div>
            </div>
          ))
        }
      </Listing>
      {editing && (
        <PersonSheet p={editing === 'new' ? null : editing} onInvited={setLink} onClose={() => setEditing(null)} />
      )}
      {link && <LinkSheet link={link} onClose={() => setLink(null)} />}
    </section>
  )
}

function LinkSheet({ link, onClose }: { link: Schemas['Invited']; onClose: () => void }) {
  const address = useOwnAddress() + link.path
  const [copied, setCopied] = useState(false)
  return (
    <Sheet title={t`A link for ${link.person.name}`} open onClose={onClose}>
      {link.sent ? (
        <p>
          <Trans>It was sent to {link.person.mail}.</Trans>
        </p>
      ) : (
        <>
          {link.not_sent && <Wrong error={new Error(t`It could not be sent: ${link.not_sent}`)} />}
          <p className="mb-3">
            <Trans>Give the link to the person. With it {link.person.name} chooses a password.</Trans>
          </p>
          <p className="rounded-lg border border-line bg-paper px-3 py-2 font-mono text-sm [overflow-wrap:anywhere]">
            {address}
          </p>
        </>
      )}
      <p className="mt-3 text-sm text-ink-3">
        <Trans>
          It works once, until {exactly(link.expires_at)}, and is not shown again. A new link ends this one.
        </Trans>
      </p>
      <div className="mt-5 flex justify-end gap-2">
        {!link.sent && window.isSecureContext && (
          <Button
            onClick={() => {
              void navigator.clipboard.writeText(address).then(() => setCopied(true))
            }}
          >
            {copied ? t`Copied` : t`Copy`}
          </Button>
        )}
        <Button look="main" onClick={onClose}>
          <Trans>Done</Trans>
        </Button>
      </div>
    </Sheet>
  )
}

type Seen = { all_mailboxes: boolean; mailboxes: string[]; all_cabinets: boolean; cabinets: string[] }

/** Which of some are chosen, or all of them. */
function Some({
  title,
  all,
  chosen,
  names,
  onAll,
  onChosen,
}: {
  title: string
  all: boolean
  chosen: string[]
  names: string[]
  onAll: (yes: boolean) => void
  onChosen: (names: string[]) => void
}) {
  return (
    <fieldset className="mb-4">
      <legend className="mb-1 font-semibold">{title}</legend>
      <Tick label={t`all, also those that are added later`} checked={all} onChange={onAll} />
      {!all && (
        <div className="ml-6 max-h-40 overflow-auto">
          {names.map((n) => (
            <Tick
              key={n}
              label={n}
              checked={chosen.includes(n)}
              onChange={(yes) => onChosen(yes ? [...chosen, n] : chosen.filter((c) => c !== n))}
            />
          ))}
          {names.length === 0 && (
            <p className="text-sm text-ink-3">
              <Trans>None yet.</Trans>
            </p>
          )}
        </div>
      )}
    </fieldset>
  )
}

function SeenFields({ now, set }: { now: Seen; set: (name: keyof Seen, v: boolean | string[]) => void }) {
  const mailboxes = useQuery(queries.mailboxes)
  const cabinets = useQuery(queries.cabinets)
  return (
    <>
      <Some
        title={t`Sees these mailboxes`}
        all={now.all_mailboxes}
        chosen={now.mailboxes}
        names={(mailboxes.data ?? []).map((m) => m.name)}
        onAll={(v) => set('all_mailboxes', v)}
        onChosen={(v) => set('mailboxes', v)}
      />
      <Some
        title={t`Sees these cabinets`}
        all={now.all_cabinets}
        chosen={now.cabinets}
        names={(cabinets.data ?? []).map((c) => c.name)}
        onAll={(v) => set('all_cabinets', v)}
        onChosen={(v) => set('cabinets', v)}
      />
    </>
  )
}

const rightsOf = (s: Seen): Schemas['Rights'] => ({
  all_mailboxes: s.all_mailboxes,
  mailboxes: s.mailboxes,
  all_cabinets: s.all_cabinets,
  cabinets: s.cabinets,
})

function PersonSheet({
  p,
  onInvited,
  onClose,
}: {
  p: Schemas['Person'] | null
  onInvited: (link: Schemas['Invited']) => void
  onClose: () => void
}) {
  const groups = useQuery(queries.groups)
  const form = useSettings({
    values: {
      name: p?.name ?? '',
      mail: p?.mail ?? '',
      role: p?.role ?? 'reader',
      groups: p?.groups ?? [],
      send: false,
      all_mailboxes: p?.rights.all_mailboxes ?? true,
      mailboxes: p?.rights.mailboxes ?? [],
      all_cabinets: p?.rights.all_cabinets ?? true,
      cabinets: p?.rights.cabinets ?? [],
    },
    revision: p?.revision,
    names: { 'person.name': 'name', 'person.mail': 'mail', 'person.role': 'role' },
    save: async (s, revision): Promise<Schemas['Invited'] | undefined> => {
      const person = { name: s.name, mail: s.mail, role: s.role, groups: s.groups, rights: rightsOf(s) }
      if (!p) return value(api.POST('/api/v1/people', { body: { person, days: 3, send: s.send } }))
      await value(
        api.PUT('/api/v1/people/{id}', { params: { path: { id: p.id }, header: ifMatch(revision) }, body: person }),
      )
      return undefined
    },
    saved: (link) => {
      if (link) onInvited(link)
      onClose()
    },
  })
  const { bind, held, now } = form
  return (
    <Sheet title={p ? `“${p.name}”` : t`Invite a person`} open onClose={onClose}>
      <form onSubmit={form.submit}>
        <Field label={t`Name`} required autoFocus={!p} hint={t`The person signs in with it.`} {...bind('name')} />
        <Field
          label={t`Mail address`}
          type="email"
          hint={t`Ink Tray sends links there. You may leave it empty.`}
          {...bind('mail')}
        />
        <Pick label={t`Role`} choices={roles} {...held('role')} />
        {now.role === 'administrator' ? (
          <p className="mb-4 text-sm text-ink-3">
            <Trans>Administrators see all mailboxes and cabinets.</Trans>
          </p>
        ) : (
          <SeenFields now={now} set={(name, v) => form.set(name, v)} />
        )}
        {(groups.data ?? []).length > 0 && (
          <fieldset className="mb-4">
            <legend className="mb-1 font-semibold">
              <Trans>Groups</Trans>
            </legend>
            {groups.data?.map((g) => (
              <Tick
                key={g.id}
                label={g.name}
                checked={now.groups.includes(g.name)}
                onChange={(yes) =>
                  form.set('groups', yes ? [...now.groups, g.name] : now.groups.filter((n) => n !== g.name))
                }
              />
            ))}
          </fieldset>
        )}
        {!p && now.mail && (
          <Tick label={t`Send the link to this address`} checked={now.send} onChange={(v) => form.set('send', v)} />
        )}
        <End
          of={form}
          label={p ? t`Save` : t`Invite`}
          onClose={onClose}
          mine={p ? { ...now, send: undefined } : undefined}
          look={p ? async () => (await value(api.GET('/api/v1/people'))).find((one) => one.id === p.id) : undefined}
        />
      </form>
    </Sheet>
  )
}

function Groups() {
  const query = useQuery(queries.groups)
  const [editing, setEditing] = useState<Schemas['Group'] | 'new' | null>(null)
  return (
    <section className="mb-10">
      <div className="mb-2 flex items-center justify-between">
        <h2>
          <Trans>Groups</Trans>
        </h2>
        <Button onClick={() => setEditing('new')}>
          <Trans>Add a group</Trans>
        </Button>
      </div>
      <Listing
        query={query}
        empty={(g) => g.length === 0 && t`No groups yet. A group gives several people the same mailboxes and cabinets.`}
      >
        {(all) =>
          all.map((g) => (
            <div key={g.id} className="flex flex-wrap items-start justify-between gap-3 border-t border-line py-3">
              <div className="min-w-0">
                <p>
                  <span className="font-semibold">{g.name}</span>{' '}
                  <span className="text-ink-2">{g.people.join(', ') || t`no people yet`}</span>
                </p>
                <p className="text-sm text-ink-3">{sight(g.rights)}</p>
              </div>
              <div className="flex items-center gap-2">
                <Button onClick={() => setEditing(g)}>
                  <Trans>Change</Trans>
                </Button>
                <Remover
                  name={g.name}
                  lost={t`Its people lose what they saw through the group. They keep their own rights.`}
                  remove={() => value(api.DELETE('/api/v1/groups/{id}', { params: { path: { id: g.id } } }))}
                />
              </div>
            </div>
          ))
        }
      </Listing>
      {editing && <GroupSheet g={editing === 'new' ? null : editing} onClose={() => setEditing(null)} />}
    </section>
  )
}

function GroupSheet({ g, onClose }: { g: Schemas['Group'] | null; onClose: () => void }) {
  const people = useQuery(queries.people)
  const form = useSettings({
    values: {
      name: g?.name ?? '',
      people: g?.people ?? [],
      all_mailboxes: g?.rights.all_mailboxes ?? false,
      mailboxes: g?.rights.mailboxes ?? [],
      all_cabinets: g?.rights.all_cabinets ?? false,
      cabinets: g?.rights.cabinets ?? [],
    },
    revision: g?.revision,
    save: (s, revision) => {
      const body = { name: s.name, people: s.people, rights: rightsOf(s) }
      return value(
        g
          ? api.PUT('/api/v1/groups/{id}', { params: { path: { id: g.id }, header: ifMatch(revision) }, body })
          : api.POST('/api/v1/groups', { body }),
      )
    },
    saved: onClose,
  })
  const { bind, now } = form
  return (
    <Sheet title={g ? `“${g.name}”` : t`Add a group`} open onClose={onClose}>
      <form onSubmit={form.submit}>
        <Field label={t`Name`} required autoFocus={!g} {...bind('name')} />
        <fieldset className="mb-4">
          <legend className="mb-1 font-semibold">
            <Trans>People in it</Trans>
          </legend>
          {people.data?.map((p) => (
            <Tick
              key={p.id}
              label={p.name}
              checked={now.people.includes(p.name)}
              onChange={(yes) =>
                form.set('people', yes ? [...now.people, p.name] : now.people.filter((n) => n !== p.name))
              }
            />
          ))}
        </fieldset>
        <SeenFields now={now} set={(name, v) => form.set(name, v)} />
        <End
          of={form}
          label={t`Save`}
          onClose={onClose}
          mine={now}
          look={g ? async () => (await value(api.GET('/api/v1/groups'))).find((one) => one.id === g.id) : undefined}
        />
      </form>
    </Sheet>
  )
}

const shown = (v: unknown) =>
  v === null || v === undefined ? t`nothing` : typeof v === 'string' ? v : JSON.stringify(v)

/** What people did. */
function Trail() {
  const [text, setText] = useState('')
  const query = useInfiniteQuery({
    queryKey: ['audit', text],
    queryFn: ({ pageParam }) =>
      value(
        api.GET('/api/v1/audit', {
          params: { query: { text: text || undefined, after: pageParam || undefined, most: 50 } },
        }),
      ),
    initialPageParam: 0,
    getNextPageParam: (last) => last.next,
  })
  const lines = query.data?.pages.flatMap((p) => p.lines)
  return (
    <section className="mb-10">
      <h2 className="mb-2">
        <Trans>What people did</Trans>
      </h2>
      <div className="flex flex-wrap items-end gap-3">
        <div className="min-w-60 grow">
          <Field
            label={t`Search`}
            type="search"
            value={text}
            onChange={(e) => setText(e.target.value)}
            hint={t`Name of a person, action, address, or setting.`}
          />
        </div>
        <a
          className="mb-6 text-pen hover:underline"
          href={address(`/api/v1/audit/export${text ? `?text=${encodeURIComponent(text)}` : ''}`)}
          download="audit.csv"
        >
          <Trans>As a table (CSV)</Trans>
        </a>
      </div>
      <Listing
        query={{ data: lines, error: query.error, isPending: query.isPending }}
        empty={(l) => l.length === 0 && t`Nothing found.`}
      >
        {(all) => (
          <div className="overflow-x-auto">
            <table aria-label={t`Activity`} className="cards w-full text-sm">
              <thead className="text-left text-ink-3">
                <tr>
                  <th className="py-1 pr-4 font-medium">
                    <Trans>When</Trans>
                  </th>
                  <th className="py-1 pr-4 font-medium">
                    <Trans>Who</Trans>
                  </th>
                  <th className="py-1 pr-4 font-medium">
                    <Trans>What</Trans>
                  </th>
                  <th className="py-1 pr-4 font-medium">
                    <Trans>Of</Trans>
                  </th>
                  <th className="py-1 font-medium">
                    <Trans>From</Trans>
                  </th>
                </tr>
              </thead>
              <tbody>
                {all.map((l) => (
                  <tr key={l.number} className="border-t border-line align-top">
                    <td data-label={t`When`} className="py-2 pr-4 whitespace-nowrap">
                      <time dateTime={l.at}>{exactly(l.at)}</time>
                    </td>
                    <td data-label={t`Who`} className="py-2 pr-4">
                      {l.person}
                    </td>
                    <td data-label={t`What`} className="py-2 pr-4">
                      {l.action}
                    </td>
                    <td data-label={t`Of`} className="py-2 pr-4 [overflow-wrap:anywhere]">
                      {l.object}
                      {l.changes?.map((c) => (
                        <p key={c.what} className="text-ink-3">
                          {c.what}: {shown(c.after)}
                          {c.before !== undefined && t`, before ${shown(c.before)}`}
                        </p>
                      ))}
                    </td>
                    <td data-label={t`From`} className="py-2">
                      {l.place}
                      {l.token && (
                        <p className="text-ink-3">
                          <Trans>token “{l.token}”</Trans>
                        </p>
                      )}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        )}
      </Listing>
      {query.hasNextPage && (
        <Button className="mt-3" onClick={() => void query.fetchNextPage()} disabled={query.isFetchingNextPage}>
          <Trans>Show older ones</Trans>
        </Button>
      )}
    </section>
  )
}
