import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { Link, Navigate, NavLink, useLocation, useParams, useSearchParams } from 'react-router'

import { api, type Schemas, value } from '../api/client'
import { queries } from '../api/queries'
import { Button, Chip, Listing, Page, Sheet, Wrong } from '../ui/basics'
import { Term } from '../ui/term'
import { when } from '../ui/format'
import { useOffice } from '../ui/office'
import { nameOf } from '../ui/words'
import { type Section, sections, settingsFor, slug } from '../ui/settings'
import { Backups } from './backup'
import { Replica } from './replica'
import { Correspondents, Tables } from './book'
import { CabinetSheet, Cabinets } from './cabinets'
import { Checkup } from './checkup'
import { HandOver, TakeOver } from './handover'
import { Machines, MoveMailbox } from './machines'
import { MailboxRemains, MailboxSheet, MailboxWays, TryNow, onServer, whereItIs } from './mailboxes'
import { Records, RegisterCare } from './registercare'
import { LimitsOf, Telling } from './telling'
import { Topics } from './topic'
import { Scans } from './scans'
import { Trust } from './trust'

const contents: Record<Section, () => React.ReactNode> = {
  mailboxes: () => <Mailboxes />,
  cabinets: () => <CabinetsSection />,
  correspondents: () => <Correspondents />,
  topics: () => <Topics />,
  tables: () => <Tables />,
  notifications: () => <Telling />,
  safety: () => (
    <>
      <Trust />
      <LimitsOf />
    </>
  ),
  register: () => (
    <>
      <RegisterCare />
      <Scans />
    </>
  ),
  service: () => (
    <>
      <Checkup />
      <Backups />
      <Replica />
      <Machines />
      <Records />
    </>
  ),
}

/** One section of the settings, with the way to the others. */
export function Settings() {
  const { section } = useParams()
  const { search, hash } = useLocation()
  const me = useQuery(queries.me)
  const one = sections.find((s) => s.at === section)
  // The heading that somebody looked for comes into view.
  useEffect(() => {
    const wanted = hash.slice(1)
    const heading = [...document.querySelectorAll<HTMLElement>('#page h2')].find(
      (h) => slug(h.textContent ?? '') === wanted,
    )
    if (!wanted || !heading) return
    heading.tabIndex = -1
    heading.focus({ preventScroll: true })
    heading.scrollIntoView({ block: 'start' })
  }, [hash, section])
  if (!one) {
    const adding = new URLSearchParams(search).get('add')
    return <Navigate replace to={`/settings/${adding === 'cabinet' ? 'cabinets' : 'mailboxes'}${search}`} />
  }
  return (
    <Page
      title={t`Settings`}
      tab={t`${one.name}, Settings`}
      sub={
        <>
          {one.about} {'term' in one && <Term word={one.term} question={t`What is a ${nameOf(one.term)}?`} />}
        </>
      }
    >
      <div className="lg:grid lg:grid-cols-[12rem_minmax(0,1fr)] lg:gap-10">
        <div className="mb-6">
          <FindSetting />
          <nav aria-label={t`Sections of the settings`} className="flex flex-wrap gap-x-1 lg:block">
            {sections.map((s) => (
              <SectionLink key={s.at} to={`/settings/${s.at}`} name={s.name} />
            ))}
            {me.data?.role === 'administrator' && <SectionLink to="/people" name={t`People`} />}
          </nav>
        </div>
        <div className="min-w-0" key={one.at}>
          {contents[one.at]()}
        </div>
      </div>
    </Page>
  )
}

const SectionLink = ({ to, name }: { to: string; name: string }) => (
  <NavLink
    to={to}
    className={({ isActive }) =>
      `block rounded-lg px-3 py-1.5 ${isActive ? 'bg-sheet-2 font-semibold' : 'text-ink-2 hover:text-ink'}`
    }
  >
    {name}
  </NavLink>
)

/** Finds a setting by its name or by what it is about. */
function FindSetting() {
  const [text, setText] = useState('')
  const found = settingsFor(text)
  return (
    <div className="mb-3">
      <input
        type="search"
        aria-label={t`Find a setting`}
        placeholder={t`Find a setting`}
        className="field"
        value={text}
        onChange={(e) => setText(e.target.value)}
      />
      {text.trim() && (
        <ul aria-label={t`Settings that were found`} className="mt-1 rounded-lg border border-line bg-sheet-2 py-1">
          {found.length === 0 && (
            <li className="px-3 py-1.5 text-ink-3">
              <Trans>No setting has this name.</Trans>
            </li>
          )}
          {found.map((f) => (
            <li key={f.section + f.heading}>
              <Link
                className="block px-3 py-1.5 text-pen hover:underline"
                to={`/settings/${f.section}#${slug(f.heading)}`}
                onClick={() => setText('')}
              >
                {f.heading}
                {f.of !== f.heading && <span className="block text-sm text-ink-3">{f.of}</span>}
              </Link>
            </li>
          ))}
        </ul>
      )}
    </div>
  )
}

/** Removes a mailbox or a cabinet, after saying what is lost. */
function Leaving({
  kind,
  of,
  onClose,
}: {
  kind: 'mailbox' | 'cabinet'
  of: { id: string; name: string } | null
  onClose: () => void
}) {
  const client = useQueryClient()
  const remove = useMutation({
    mutationFn: (id: string) =>
      value(
        kind === 'mailbox'
          ? api.DELETE('/api/v1/mailboxes/{id}', { params: { path: { id } } })
          : api.DELETE('/api/v1/cabinets/{id}', { params: { path: { id } } }),
      ),
    onSuccess: () => {
      onClose()
      void client.invalidateQueries()
    },
  })
  const close = () => {
    onClose()
    remove.reset()
  }
  return (
    <Sheet title={t`Remove “${of?.name ?? ''}”?`} open={!!of} onClose={close}>
      {of && kind === 'mailbox' ? (
        <MailboxRemains id={of.id} />
      ) : (
        <p>
          <Trans>Ink Tray forgets this cabinet. Its files stay where they are, and so does the register.</Trans>
        </p>
      )}
      <Wrong error={remove.error} />
      <div className="mt-5 flex justify-end gap-2">
        <Button onClick={close}>
          <Trans>Keep it</Trans>
        </Button>
        <Button look="seal" onClick={() => of && remove.mutate(of.id)}>
          <Trans>Remove</Trans>
        </Button>
      </div>
    </Sheet>
  )
}

function CabinetsSection() {
  const [search, setSearch] = useSearchParams()
  const [leaving, setLeaving] = useState<{ id: string; name: string } | null>(null)
  return (
    <>
      <Cabinets onAdd={() => setSearch({ add: 'cabinet' })} onRemove={setLeaving} />
      {search.get('add') === 'cabinet' && <CabinetSheet onClose={() => setSearch({}, { replace: true })} />}
      <Leaving kind="cabinet" of={leaving} onClose={() => setLeaving(null)} />
    </>
  )
}

function Mailboxes() {
  const [search, setSearch] = useSearchParams()
  const [editing, setEditing] = useState<Schemas['Mailbox'] | null>(null)
  const [leaving, setLeaving] = useState<{ id: string; name: string } | null>(null)
  const [handing, setHanding] = useState<Schemas['Mailbox'] | null>(null)
  const [moving, setMoving] = useState<{ mailbox?: string } | null>(null)
  const { others } = useOffice()
  const close = () => {
    setSearch({}, { replace: true })
    setEditing(null)
  }
  const mailboxes = useQuery(queries.mailboxes)
  return (
    <>
      <section className="mb-10 max-w-4xl">
        <div className="mb-2 flex items-center justify-between">
          <h2>
            <Trans>Mailboxes</Trans>
          </h2>
          <span className="flex flex-wrap justify-end gap-2">
            {others.length > 0 && (
              <Button onClick={() => setMoving({})}>
                <Trans>Move a mailbox here…</Trans>
              </Button>
            )}
            <TakeOver onTaken={setEditing} />
            <Button onClick={() => setSearch({ add: 'mailbox' })}>
              <Trans>Add a mailbox</Trans>
            </Button>
          </span>
        </div>
        <Listing query={mailboxes} empty={(m) => m.length === 0 && t`Ink Tray watches no mailbox yet.`}>
          {(all) =>
            all.map((m) => (
              <div key={m.id} className="flex flex-wrap items-start justify-between gap-3 border-t border-line py-3">
                <div className="min-w-0">
                  <p>
                    <span className="font-semibold">{m.name}</span>{' '}
                    <span className="[overflow-wrap:anywhere] text-ink-2">{whereItIs(m)}</span>
                  </p>
                  {m.problem && (
                    <p className="text-sm text-seal">
                      {m.problem}. {m.advice}
                    </p>
                  )}
                  {m.state === 'checked in turns' && (
                    <p className="text-sm text-ink-2">
                      <Trans>
                        Ink Tray may open fewer connections to this mail server than there are mailboxes, so they take
                        turns. You can change that in Safety, Limits.
                      </Trans>
                    </p>
                  )}
                  {m.looked_at && (
                    <p className="text-sm text-ink-3">
                      <Trans>last checked {when(m.looked_at)}</Trans>
                    </p>
                  )}
                </div>
                <div className="flex flex-wrap items-center gap-2">
                  <Chip word={m.state} />
                  {['out of reach', 'slowed down', 'waits'].includes(m.state) && <TryNow mailbox={m.id} />}
                  <MailboxWays mailbox={m} />
                  <Button onClick={() => setEditing(m)}>
                    <Trans>Change</Trans>
                  </Button>
                  {onServer(m.kind) &&
                    (others.length > 0 ? (
                      <Button onClick={() => setMoving({ mailbox: m.name })}>
                        <Trans>To another machine…</Trans>
                      </Button>
                    ) : (
                      <Button onClick={() => setHanding(m)}>
                        <Trans>Move to another Ink Tray…</Trans>
                      </Button>
                    ))}
                  <Button onClick={() => setLeaving(m)}>
                    <Trans>Remove</Trans>
                  </Button>
                </div>
              </div>
            ))
          }
        </Listing>
      </section>
      {(search.get('add') === 'mailbox' || editing) && (
        <MailboxSheet key={editing?.id} mailbox={editing} onClose={close} />
      )}
      {moving && <MoveMailbox mailbox={moving.mailbox} onClose={() => setMoving(null)} />}
      {handing && <HandOver mailbox={handing} onClose={() => setHanding(null)} />}
      <Leaving kind="mailbox" of={leaving} onClose={() => setLeaving(null)} />
    </>
  )
}
