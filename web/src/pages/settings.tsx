import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { useSearchParams } from 'react-router'

import { api, type Schemas, value } from '../api/client'
import { queries } from '../api/queries'
import { Button, Chip, Listing, Page, Sheet, Wrong } from '../ui/basics'
import { when } from '../ui/format'
import { useOffice } from '../ui/office'
import { Backups } from './backup'
import { Replica } from './replica'
import { Correspondents, Tables } from './book'
import { CabinetSheet, Cabinets } from './cabinets'
import { Checkup } from './checkup'
import { HandOver, TakeOver } from './handover'
import { Machines, MoveMailbox } from './machines'
import { MailboxRemains, MailboxSheet, MailboxWays, TryNow, onServer, whereItIs } from './mailboxes'
import { RegisterCare } from './registercare'
import { Telling } from './telling'
import { Topics } from './topic'
import { Scans } from './scans'
import { Trust } from './trust'

export function Settings() {
  const client = useQueryClient()
  const [search, setSearch] = useSearchParams()
  const [editing, setEditing] = useState<Schemas['Mailbox'] | null>(null)
  const [leaving, setLeaving] = useState<{ kind: 'mailbox' | 'cabinet'; id: string; name: string } | null>(null)
  const [handing, setHanding] = useState<Schemas['Mailbox'] | null>(null)
  const [moving, setMoving] = useState<{ mailbox?: string } | null>(null)
  const { others } = useOffice()
  const adding = search.get('add')
  const close = () => {
    setSearch({}, { replace: true })
    setEditing(null)
  }
  const mailboxes = useQuery(queries.mailboxes)
  const remove = useMutation({
    mutationFn: (what: { kind: 'mailbox' | 'cabinet'; id: string }) =>
      value(
        what.kind === 'mailbox'
          ? api.DELETE('/api/v1/mailboxes/{id}', { params: { path: { id: what.id } } })
          : api.DELETE('/api/v1/cabinets/{id}', { params: { path: { id: what.id } } }),
      ),
    onSuccess: () => {
      setLeaving(null)
      void client.invalidateQueries()
    },
  })
  return (
    <Page title="Settings" sub="Where messages arrive, where files are kept, who writes, and who is told.">
      <section className="mb-10 max-w-4xl">
        <div className="mb-2 flex items-center justify-between">
          <h2>Mailboxes</h2>
          <span className="flex flex-wrap justify-end gap-2">
            {others.length > 0 && <Button onClick={() => setMoving({})}>Move one here…</Button>}
            <TakeOver onTaken={setEditing} />
            <Button onClick={() => setSearch({ add: 'mailbox' })}>Add a mailbox</Button>
          </span>
        </div>
        <Listing query={mailboxes} empty={(m) => m.length === 0 && 'No mailbox is watched yet.'}>
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
                  {m.state === 'looked into in turns' && (
                    <p className="text-sm text-ink-2">
                      Its mail server may have fewer connections than there are mailboxes, so they take turns. To change
                      it: Limits, below.
                    </p>
                  )}
                  {m.looked_at && <p className="text-sm text-ink-3">last looked into {when(m.looked_at)}</p>}
                </div>
                <div className="flex flex-wrap items-center gap-2">
                  <Chip word={m.state} />
                  {['out of reach', 'slowed down', 'waits'].includes(m.state) && <TryNow mailbox={m.id} />}
                  <MailboxWays mailbox={m} />
                  <Button onClick={() => setEditing(m)}>Change</Button>
                  {onServer(m.kind) &&
                    (others.length > 0 ? (
                      <Button onClick={() => setMoving({ mailbox: m.name })}>To another machine…</Button>
                    ) : (
                      <Button onClick={() => setHanding(m)}>Hand over…</Button>
                    ))}
                  <Button onClick={() => setLeaving({ kind: 'mailbox', id: m.id, name: m.name })}>Remove</Button>
                </div>
              </div>
            ))
          }
        </Listing>
      </section>
      <Cabinets
        onAdd={() => setSearch({ add: 'cabinet' })}
        onRemove={(c) => setLeaving({ kind: 'cabinet', id: c.id, name: c.name })}
      />
      <Correspondents />
      <Topics />
      <Trust />
      <Scans />
      <Tables />
      <Telling />
      <RegisterCare />
      <Backups />
      <Replica />
      <Machines />
      <Checkup />
      {(adding === 'mailbox' || editing) && <MailboxSheet key={editing?.id} mailbox={editing} onClose={close} />}
      {moving && <MoveMailbox mailbox={moving.mailbox} onClose={() => setMoving(null)} />}
      {handing && <HandOver mailbox={handing} onClose={() => setHanding(null)} />}
      {adding === 'cabinet' && <CabinetSheet onClose={close} />}
      <Sheet
        title={`Remove “${leaving?.name ?? ''}”?`}
        open={!!leaving}
        onClose={() => {
          setLeaving(null)
          remove.reset()
        }}
      >
        {leaving?.kind === 'mailbox' ? (
          <MailboxRemains id={leaving.id} />
        ) : (
          <p>Ink Tray forgets it. Its files stay where they are, and so does the register.</p>
        )}
        <Wrong error={remove.error} />
        <div className="mt-5 flex justify-end gap-2">
          <Button
            onClick={() => {
              setLeaving(null)
              remove.reset()
            }}
          >
            Keep it
          </Button>
          <Button look="seal" onClick={() => leaving && remove.mutate(leaving)}>
            Remove
          </Button>
        </div>
      </Sheet>
    </Page>
  )
}
