import { plural, t } from '@lingui/core/macro'
import { Plural, Trans } from '@lingui/react/macro'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'

import { api, ifMatch, type Schemas, value } from '../api/client'
import { queries } from '../api/queries'
import { TextList } from '../letter/blanks'
import { Button, Field, Lines, Listing, Sheet } from '../ui/basics'
import { Remover } from '../ui/remover'
import { End, useSettings } from '../ui/form'

type Person = Schemas['Correspondent']
type Draft = { name: string; domains: string[]; addresses: string[]; groups: string[] }

/** The persons and firms with whom the office writes. */
export function Correspondents() {
  const [editing, setEditing] = useState<{ id?: string; revision?: number; passwords: number; draft: Draft } | null>(
    null,
  )
  const all = useQuery(queries.correspondents)
  const proposals = useQuery(queries.proposals)
  const edit = (c: Person) =>
    setEditing({
      id: c.id,
      revision: c.revision,
      passwords: c.passwords,
      draft: { name: c.name, domains: c.domains, addresses: c.addresses, groups: c.groups },
    })
  const fresh = (draft: Partial<Draft> = {}) =>
    setEditing({ passwords: 0, draft: { name: '', domains: [], addresses: [], groups: [], ...draft } })
  return (
    <section className="mb-10 max-w-4xl">
      <div className="mb-2 flex items-center justify-between">
        <h2>
          <Trans>Correspondents</Trans>
        </h2>
        <Button onClick={() => fresh()}>
          <Trans>Add a correspondent</Trans>
        </Button>
      </div>
      <p className="mb-2 text-ink-2">
        <Trans>
          A correspondent is a person or firm with its addresses and domains. Rules can ask for it, and folders can have
          its name.
        </Trans>
      </p>
      <Listing query={all} empty={(c) => c.length === 0 && t`No correspondents yet.`}>
        {(list) =>
          list.map((c) => (
            <div key={c.id} className="flex flex-wrap items-start justify-between gap-3 border-t border-line py-3">
              <div className="min-w-0">
                <p>
                  <span className="font-semibold">{c.name}</span>{' '}
                  <span className="text-ink-3">{c.groups.join(', ')}</span>
                </p>
                <p className="text-[14.5px] [overflow-wrap:anywhere] text-ink-2">
                  {[...c.domains, ...c.addresses].join(', ')}
                  {c.passwords > 0 &&
                    t`; ${plural(c.passwords, { one: '# archive password', other: '# archive passwords' })} kept`}
                </p>
              </div>
              <div className="flex gap-2">
                <Button onClick={() => edit(c)} aria-label={t`Change ${c.name}`}>
                  <Trans>Change</Trans>
                </Button>
                <Remover
                  name={c.name}
                  lost={t`Its groups and archive passwords are lost. Filed files stay.`}
                  remove={() => value(api.DELETE('/api/v1/correspondents/{id}', { params: { path: { id: c.id } } }))}
                />
              </div>
            </div>
          ))
        }
      </Listing>
      {!!proposals.data?.length && (
        <details className="mt-3">
          <summary className="font-semibold text-pen">
            <Trans>
              <Plural value={proposals.data.length} one="# domain" other="# domains" /> that write to you and are not
              listed here
            </Trans>
          </summary>
          {proposals.data.map((p) => (
            <div key={p.domain} className="flex flex-wrap items-center justify-between gap-3 border-t border-line py-2">
              <p className="min-w-0 [overflow-wrap:anywhere]">
                <span className="font-semibold">{p.domain}</span>{' '}
                <span className="text-[14.5px] text-ink-3">
                  <Trans>
                    <Plural value={p.count} one="# message" other="# messages" />, from {p.known.join(', ')}
                  </Trans>
                </span>
              </p>
              <Button
                onClick={() => fresh({ name: p.name, domains: [p.domain] })}
                aria-label={t`Add ${p.domain} as a correspondent`}
              >
                <Trans>Add</Trans>
              </Button>
            </div>
          ))}
        </details>
      )}
      {editing && (
        <PersonSheet
          {...editing}
          groups={[...new Set(all.data?.flatMap((c) => c.groups) ?? [])]}
          onClose={() => setEditing(null)}
        />
      )}
    </section>
  )
}

function PersonSheet({
  id,
  revision,
  passwords,
  draft,
  groups,
  onClose,
}: {
  id?: string
  revision?: number
  passwords: number
  draft: Draft
  groups: string[]
  onClose: () => void
}) {
  const form = useSettings<Draft & { passwords: string }, unknown>({
    values: { ...draft, passwords: '' },
    revision,
    save: ({ passwords: typed, ...d }, on) => {
      const secrets = typed.split('\n').map((s) => s.trim())
      const body = { ...d, passwords: typed ? secrets.filter(Boolean) : undefined }
      return value<unknown>(
        id
          ? api.PUT('/api/v1/correspondents/{id}', { params: { path: { id }, header: ifMatch(on) }, body })
          : api.POST('/api/v1/correspondents', { body }),
      )
    },
    saved: onClose,
  })
  const { bind } = form
  const texts = (name: 'domains' | 'addresses' | 'groups', label: string, offered?: string[]) => {
    const { value: values, onChange, error } = form.held(name)
    return (
      <div className="mb-4">
        <TextList
          label={label}
          values={values}
          onChange={onChange}
          offered={offered?.map((g) => ({ value: g }))}
          about={offered && t`Groups there are:`}
        />
        {error && (
          <p role="alert" className="mt-1 text-sm text-seal">
            {error}
          </p>
        )}
      </div>
    )
  }
  return (
    <Sheet title={id ? t`Change ${draft.name}` : t`Add a correspondent`} open onClose={onClose}>
      <form onSubmit={form.submit}>
        <Field label={t`Name`} required hint={t`Folders get this name.`} {...bind('name')} />
        {texts('domains', t`Domains, with their subdomains`)}
        {texts('addresses', t`Single addresses`)}
        {texts('groups', t`Groups`, groups)}
        <Lines
          label={t`Passwords of the archives that they send, one per line`}
          rows={2}
          placeholder={passwords ? t`${passwords} kept. Passwords that you enter here replace them` : ''}
          hint={t`Ink Tray keeps them encrypted and never shows them.`}
          {...bind('passwords')}
        />
        <End
          of={form}
          label={id ? t`Save` : t`Add correspondent`}
          onClose={onClose}
          mine={{ ...form.now, passwords: undefined }}
          look={() => value(api.GET('/api/v1/correspondents')).then((l) => l.find((x) => x.id === id))}
        />
      </form>
    </Sheet>
  )
}

/** Tables in which patterns look something up. */
export function Tables() {
  const [editing, setEditing] = useState<Partial<Schemas['LookupTable']> | null>(null)
  const all = useQuery(queries.tables)
  return (
    <section className="mb-10 max-w-4xl">
      <div className="mb-2 flex items-center justify-between">
        <h2>
          <Trans>Tables</Trans>
        </h2>
        <Button onClick={() => setEditing({})}>
          <Trans>Add a table</Trans>
        </Button>
      </div>
      <p className="mb-2 text-ink-2">
        <Trans>
          A table says what a code stands for, such as the place of a station. Patterns look codes up in it.
        </Trans>
      </p>
      <Listing query={all} empty={(tables) => tables.length === 0 && t`No tables yet.`}>
        {(list) =>
          list.map((table) => (
            <div key={table.id} className="flex flex-wrap items-start justify-between gap-3 border-t border-line py-3">
              <div className="min-w-0">
                <p>
                  <span className="font-semibold">{table.name}</span>{' '}
                  <span className="text-ink-2">{plural(table.rows.length, { one: '# row', other: '# rows' })}</span>
                </p>
                <p className="truncate text-[14.5px] text-ink-3">
                  {table.rows
                    .slice(0, 4)
                    .map((r) => `${r.key}: ${r.value}`)
                    .join(', ')}
                  {table.rows.length > 4 && ' …'}
                </p>
              </div>
              <div className="flex gap-2">
                <Button onClick={() => setEditing(table)} aria-label={t`Change ${table.name}`}>
                  <Trans>Change</Trans>
                </Button>
                <Remover
                  name={table.name}
                  lost={t`${plural(table.rows.length, { one: '# row is', other: '# rows are' })} lost.`}
                  remove={() => value(api.DELETE('/api/v1/tables/{id}', { params: { path: { id: table.id } } }))}
                />
              </div>
            </div>
          ))
        }
      </Listing>
      {editing && <TableSheet table={editing} onClose={() => setEditing(null)} />}
    </section>
  )
}

/** The rows of a table as they are typed: one a line, key = value. */
const rowsOf = (text: string) =>
  text
    .split('\n')
    .filter((l) => l.trim())
    .map((l) => {
      const at = l.indexOf('=')
      return { key: (at < 0 ? l : l.slice(0, at)).trim(), value: at < 0 ? '' : l.slice(at + 1).trim() }
    })

function TableSheet({ table, onClose }: { table: Partial<Schemas['LookupTable']>; onClose: () => void }) {
  const form = useSettings<{ name: string; rows: string }, unknown>({
    values: { name: table.name ?? '', rows: table.rows?.map((r) => `${r.key} = ${r.value}`).join('\n') ?? '' },
    revision: table.revision,
    save: ({ name, rows }, revision) => {
      const body = { name, rows: rowsOf(rows) }
      return value<unknown>(
        table.id
          ? api.PUT('/api/v1/tables/{id}', { params: { path: { id: table.id }, header: ifMatch(revision) }, body })
          : api.POST('/api/v1/tables', { body }),
      )
    },
    saved: onClose,
  })
  const { bind, now } = form
  const rows = rowsOf(now.rows)
  return (
    <Sheet title={table.id ? t`Change the table ${table.name ?? ''}` : t`Add a table`} open onClose={onClose}>
      <form onSubmit={form.submit}>
        <Field
          label={t`Name, in one word`}
          required
          hint={t`In a pattern: <lookup ${now.name || t`stations`} of (file.stem)>`}
          {...bind('name')}
        />
        <Lines
          label={t`Rows, one per line: code = meaning`}
          rows={9}
          code
          placeholder={t`ST-03 = Ferry steps`}
          hint={t`${plural(rows.length, { one: '# row', other: '# rows' })}. Capital and small letters are the same.`}
          {...bind('rows')}
        />
        <End
          of={form}
          label={table.id ? t`Save` : t`Add table`}
          onClose={onClose}
          mine={{ name: now.name, rows }}
          look={() => value(api.GET('/api/v1/tables')).then((l) => l.find((x) => x.id === table.id))}
        />
      </form>
    </Sheet>
  )
}
