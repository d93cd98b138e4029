import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { useForm } from 'react-hook-form'

import { api, type Schemas, value } from '../api/client'
import { keys, queries } from '../api/queries'
import { Button, Chip, Field, Listing, Page, Pick, Sheet, Wrong } from '../ui/basics'
import { useSettings } from '../ui/form'
import { labelOf } from '../ui/labels'
import { Factor } from './factor'
import { exactly, when } from '../ui/format'
import { choose, chosen, languages } from '../ui/language'

/** One's own password, sessions and tokens. */
export function You() {
  const me = useQuery(queries.me)
  const [making, setMaking] = useState(false)
  return (
    <Page title={me.data?.name ?? t`You`} sub={t`Your password, your second factor, and where you are signed in.`}>
      <Language />
      <Password />
      <Factor />
      <section className="mb-10 max-w-4xl">
        <div className="mb-2 flex items-center justify-between">
          <h2>
            <Trans>Your sessions and tokens</Trans>
          </h2>
          <Button onClick={() => setMaking(true)}>
            <Trans>Make a token</Trans>
          </Button>
        </div>
        <Keys />
      </section>
      {making && <TokenSheet onClose={() => setMaking(false)} />}
    </Page>
  )
}

const tongue = (tag: string) => new Intl.DisplayNames([tag], { type: 'language' }).of(tag) ?? tag

/** In which language this browser shows the pages. */
function Language() {
  return (
    <section className="mb-10 max-w-md">
      <h2 className="mb-2">
        <Trans>Language</Trans>
      </h2>
      <Pick
        label={t`Show the pages in`}
        value={chosen()}
        choices={[['', t`the language of the browser`], ...languages.map((l): [string, string] => [l, tongue(l)])]}
        onChange={(l) => {
          if (choose(l)) window.location.reload()
        }}
      />
      <p className="mt-1 text-sm text-ink-3">
        <Trans>Only in this browser. Dates and numbers follow it.</Trans>
      </p>
    </section>
  )
}

function Password() {
  const form = useSettings({
    values: { old: '', new: '' },
    save: (body) => value(api.PUT('/api/v1/me/password', { body })),
    saved: () => {
      form.set('old', '')
      form.set('new', '')
    },
  })
  return (
    <section className="mb-10 max-w-md">
      <h2 className="mb-2">
        <Trans>Your password</Trans>
      </h2>
      <form onSubmit={form.submit}>
        <Field
          label={t`Present password`}
          type="password"
          autoComplete="current-password"
          required
          {...form.bind('old')}
        />
        <Field
          label={t`New password`}
          type="password"
          autoComplete="new-password"
          required
          minLength={10}
          hint={t`At least ten characters. Your other sessions end; tokens stay.`}
          {...form.bind('new')}
        />
        <Wrong error={form.rest()} />
        {form.saving.isSuccess && (
          <p role="status" className="my-3 text-moss">
            <Trans>Your password is changed.</Trans>
          </p>
        )}
        <Button look="main" type="submit" disabled={form.saving.isPending}>
          <Trans>Change it</Trans>
        </Button>
      </form>
    </section>
  )
}

const scopes: [Schemas['Scope'], string][] = [
  ['full', t`all that you may do`],
  ['read', t`reading only`],
  ['register', t`the register only`],
  ['metrics', t`the metrics only`],
]

/** Sessions and tokens: one's own, or everybody's. */
export function Keys({ all = false }: { all?: boolean }) {
  const client = useQueryClient()
  const query = useQuery(queries.keys(all))
  const [ending, setEnding] = useState<Schemas['Key'] | null>(null)
  const end = useMutation({
    mutationFn: (id: string) =>
      value(
        all
          ? api.DELETE('/api/v1/keys/{id}', { params: { path: { id } } })
          : api.DELETE('/api/v1/me/keys/{id}', { params: { path: { id } } }),
      ),
    onSuccess: () => {
      setEnding(null)
      void client.invalidateQueries({ queryKey: keys.keys })
      void client.invalidateQueries({ queryKey: ['me'] })
    },
  })
  return (
    <>
      <Listing query={query} empty={(k) => k.length === 0 && t`There are none.`}>
        {(list) =>
          list.map((k) => (
            <div key={k.id} className="flex flex-wrap items-start justify-between gap-3 border-t border-line py-3">
              <div className="min-w-0">
                <p className="[overflow-wrap:anywhere]">
                  <span className="font-semibold">{k.kind === 'token' ? k.label : t`Browser`}</span>{' '}
                  <span className="text-ink-2">
                    {all && t`of ${k.person} `}
                    {k.scope && k.scope !== 'full' && t`for ${scopes.find(([s]) => s === k.scope)?.[1] ?? k.scope}`}
                  </span>
                </p>
                <p className="text-sm [overflow-wrap:anywhere] text-ink-3">
                  <Trans>
                    {k.used_at ? t`used ${when(k.used_at)}` : t`made ${when(k.made_at)}, not used yet`}
                    {k.place && t` from ${k.place}`}; ends {exactly(k.expires_at)}
                  </Trans>
                </p>
                {k.program && <p className="text-sm [overflow-wrap:anywhere] text-ink-3">{k.program}</p>}
              </div>
              <div className="flex items-center gap-2">
                <Chip word={k.this ? 'this one' : k.kind} />
                <Button onClick={() => setEnding(k)} aria-label={t`End ${labelOf(k.kind)} ${k.label}`}>
                  <Trans>End</Trans>
                </Button>
              </div>
            </div>
          ))
        }
      </Listing>
      <Sheet
        title={ending?.kind === 'token' ? t`End “${ending.label}”?` : t`End this session?`}
        open={!!ending}
        onClose={() => setEnding(null)}
      >
        <p>
          {ending?.kind === 'token'
            ? t`Programs that use it stop working. It cannot be brought back.`
            : ending?.this
              ? t`You are signed out here.`
              : t`Whoever uses it has to sign in again.`}
        </p>
        <Wrong error={end.error} />
        <div className="mt-5 flex justify-end gap-2">
          <Button onClick={() => setEnding(null)}>
            <Trans>Keep</Trans>
          </Button>
          <Button look="seal" onClick={() => ending && end.mutate(ending.id)} disabled={end.isPending}>
            <Trans>End it</Trans>
          </Button>
        </div>
      </Sheet>
    </>
  )
}

function TokenSheet({ onClose }: { onClose: () => void }) {
  const client = useQueryClient()
  const form = useForm({ defaultValues: { label: '', days: '365' } })
  const [scope, setScope] = useState<Schemas['Scope']>('read')
  const make = useMutation({
    mutationFn: (s: { label: string; days: string }) =>
      value(api.POST('/api/v1/tokens', { body: { label: s.label, days: Number(s.days) || 365, scope } })),
    onSuccess: () => client.invalidateQueries({ queryKey: keys.keys }),
  })
  if (make.data)
    return (
      <Sheet title={t`Your token`} open onClose={onClose}>
        <p className="rounded-lg border border-line bg-paper px-3 py-2 font-mono text-sm [overflow-wrap:anywhere]">
          {make.data.token}
        </p>
        <p className="mt-3 text-sm text-ink-3">
          <Trans>
            It is not shown again. It ends {exactly(make.data.expires_at)}. Programs send it as “Authorization: Bearer
            …”; the command line takes it from INKTRAY_TOKEN.
          </Trans>
        </p>
        <div className="mt-5 flex justify-end">
          <Button look="main" onClick={onClose}>
            <Trans>Done</Trans>
          </Button>
        </div>
      </Sheet>
    )
  return (
    <Sheet title={t`Make a token`} open onClose={onClose}>
      <form onSubmit={form.handleSubmit((s) => make.mutate(s))}>
        <Field label={t`What it is for`} required autoFocus hint={t`such as: monitoring`} {...form.register('label')} />
        <Pick label={t`It is good for`} choices={scopes} value={scope} onChange={setScope} />
        <Field label={t`It ends after so many days`} inputMode="numeric" pattern="[0-9]+" {...form.register('days')} />
        <Wrong error={make.error} />
        <div className="mt-5 flex justify-end gap-2">
          <Button onClick={onClose}>
            <Trans>Cancel</Trans>
          </Button>
          <Button look="main" type="submit" disabled={make.isPending}>
            <Trans>Make it</Trans>
          </Button>
        </div>
      </form>
    </Sheet>
  )
}
