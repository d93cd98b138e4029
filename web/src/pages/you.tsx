import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { useForm } from 'react-hook-form'

import { api, type Schemas, value } from '../api/client'
import { keys, queries } from '../api/queries'
import { Button, Chip, Field, Listing, Page, Pick, Sheet, Wrong } from '../ui/basics'
import { useSettings } from '../ui/form'
import { Factor } from './factor'
import { exactly, when } from '../ui/format'

/** One's own password, sessions and tokens. */
export function You() {
  const me = useQuery(queries.me)
  const [making, setMaking] = useState(false)
  return (
    <Page title={me.data?.name ?? 'You'} sub="Your password, your second factor, and where you are signed in.">
      <Password />
      <Factor />
      <section className="mb-10 max-w-4xl">
        <div className="mb-2 flex items-center justify-between">
          <h2>Your sessions and tokens</h2>
          <Button onClick={() => setMaking(true)}>Make a token</Button>
        </div>
        <Keys />
      </section>
      {making && <TokenSheet onClose={() => setMaking(false)} />}
    </Page>
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
      <h2 className="mb-2">Your password</h2>
      <form onSubmit={form.submit}>
        <Field
          label="Present password"
          type="password"
          autoComplete="current-password"
          required
          {...form.bind('old')}
        />
        <Field
          label="New password"
          type="password"
          autoComplete="new-password"
          required
          minLength={10}
          hint="At least ten characters. Your other sessions end; tokens stay."
          {...form.bind('new')}
        />
        <Wrong error={form.rest()} />
        {form.saving.isSuccess && (
          <p role="status" className="my-3 text-moss">
            Your password is changed.
          </p>
        )}
        <Button look="main" type="submit" disabled={form.saving.isPending}>
          Change it
        </Button>
      </form>
    </section>
  )
}

const scopes: [Schemas['Scope'], string][] = [
  ['full', 'all that you may do'],
  ['read', 'reading only'],
  ['register', 'the register only'],
  ['metrics', 'the metrics only'],
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
      <Listing query={query} empty={(k) => k.length === 0 && 'There are none.'}>
        {(list) =>
          list.map((k) => (
            <div key={k.id} className="flex flex-wrap items-start justify-between gap-3 border-t border-line py-3">
              <div className="min-w-0">
                <p className="[overflow-wrap:anywhere]">
                  <span className="font-semibold">{k.kind === 'token' ? k.label : 'Browser'}</span>{' '}
                  <span className="text-ink-2">
                    {all && `of ${k.person} `}
                    {k.scope && k.scope !== 'full' && `for ${scopes.find(([s]) => s === k.scope)?.[1] ?? k.scope}`}
                  </span>
                </p>
                <p className="text-sm [overflow-wrap:anywhere] text-ink-3">
                  {k.used_at ? `used ${when(k.used_at)}` : `made ${when(k.made_at)}, not used yet`}
                  {k.place && ` from ${k.place}`}; ends {exactly(k.expires_at)}
                </p>
                {k.program && <p className="text-sm [overflow-wrap:anywhere] text-ink-3">{k.program}</p>}
              </div>
              <div className="flex items-center gap-2">
                <Chip word={k.this ? 'this one' : k.kind} />
                <Button onClick={() => setEnding(k)} aria-label={`End ${k.kind} ${k.label}`}>
                  End
                </Button>
              </div>
            </div>
          ))
        }
      </Listing>
      <Sheet
        title={ending?.kind === 'token' ? `End “${ending.label}”?` : 'End this session?'}
        open={!!ending}
        onClose={() => setEnding(null)}
      >
        <p>
          {ending?.kind === 'token'
            ? 'Programs that use it stop working. It cannot be brought back.'
            : ending?.this
              ? 'You are signed out here.'
              : 'Whoever uses it has to sign in again.'}
        </p>
        <Wrong error={end.error} />
        <div className="mt-5 flex justify-end gap-2">
          <Button onClick={() => setEnding(null)}>Keep</Button>
          <Button look="seal" onClick={() => ending && end.mutate(ending.id)} disabled={end.isPending}>
            End it
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
      <Sheet title="Your token" open onClose={onClose}>
        <p className="rounded-lg border border-line bg-paper px-3 py-2 font-mono text-sm [overflow-wrap:anywhere]">
          {make.data.token}
        </p>
        <p className="mt-3 text-sm text-ink-3">
          It is not shown again. It ends {exactly(make.data.expires_at)}. Programs send it as “Authorization: Bearer …”;
          the command line takes it from INKTRAY_TOKEN.
        </p>
        <div className="mt-5 flex justify-end">
          <Button look="main" onClick={onClose}>
            Done
          </Button>
        </div>
      </Sheet>
    )
  return (
    <Sheet title="Make a token" open onClose={onClose}>
      <form onSubmit={form.handleSubmit((s) => make.mutate(s))}>
        <Field label="What it is for" required autoFocus hint="such as: monitoring" {...form.register('label')} />
        <Pick label="It is good for" choices={scopes} value={scope} onChange={setScope} />
        <Field label="It ends after so many days" inputMode="numeric" pattern="[0-9]+" {...form.register('days')} />
        <Wrong error={make.error} />
        <div className="mt-5 flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button look="main" type="submit" disabled={make.isPending}>
            Make it
          </Button>
        </div>
      </form>
    </Sheet>
  )
}
