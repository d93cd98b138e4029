import { useQuery, useQueryClient } from '@tanstack/react-query'
import { type ReactNode, useState } from 'react'

import { api, ifMatch, type Schemas, value } from '../api/client'
import { keys, queries } from '../api/queries'
import { Button, Field, Lines, Listing, Pick, Sheet, Tick, Wrong } from '../ui/basics'
import { End, useSettings } from '../ui/form'
import { exactly, many } from '../ui/format'

/** One's own second factor: codes of an authenticator app. */
export function Factor() {
  const client = useQueryClient()
  const query = useQuery(queries.factor)
  const [doing, setDoing] = useState<'set up' | 'codes' | 'remove' | null>(null)
  const close = () => {
    setDoing(null)
    void client.invalidateQueries({ queryKey: keys.factor })
  }
  return (
    <section className="mb-10 max-w-4xl">
      <div className="mb-2 flex flex-wrap items-center justify-between gap-3">
        <h2>Your second factor</h2>
        <span className="flex flex-wrap gap-2">
          {query.data?.set_up && <Button onClick={() => setDoing('codes')}>New codes</Button>}
          {query.data?.set_up && !query.data.asked && <Button onClick={() => setDoing('remove')}>Remove</Button>}
          <Button onClick={() => setDoing('set up')} disabled={!query.data}>
            {query.data?.set_up ? 'Use another app' : 'Set it up'}
          </Button>
        </span>
      </div>
      <Listing query={query}>
        {(f) => (
          <p className="border-t border-line py-3 text-ink-2">
            {f.set_up
              ? `Since ${exactly(f.since ?? '')} a code of your authenticator app is asked for when you sign in. ${many(f.codes, 'code is', 'codes are')} left for when the app is lost.`
              : `None: whoever knows your password signs in as you.${f.asked ? ' One is asked of you here.' : ''} With one, a code that your phone shows is asked for, too.`}
          </p>
        )}
      </Listing>
      {doing === 'set up' && (
        <Sheet title="Your second factor" open onClose={close}>
          <SetUp onDone={close} />
        </Sheet>
      )}
      {doing === 'codes' && <NewCodes onClose={close} />}
      {doing === 'remove' && <Removing onClose={close} />}
    </section>
  )
}

/** Sets up an authenticator app: the password, the secret, a first code, and codes for when the app is lost. */
export function SetUp({ onDone }: { onDone: () => void }) {
  const [secret, setSecret] = useState<Schemas['FactorSecret'] | null>(null)
  const [codes, setCodes] = useState<string[] | null>(null)
  const prove = useSettings({
    values: { code: '' },
    save: (body) => value(api.PUT('/api/v1/me/factor', { body })),
    saved: (r) => setCodes(r.codes),
  })
  if (codes) return <Codes codes={codes} onDone={onDone} />
  if (!secret)
    return (
      <PasswordForm
        says="You need an authenticator app on your phone, or in your password manager."
        label="Next"
        save={(body) => value(api.POST('/api/v1/me/factor', { body }))}
        saved={setSecret}
      />
    )
  return (
    <form onSubmit={prove.submit}>
      <p className="mb-3 text-ink-2">Scan this picture with the app, or enter the secret that stands below it.</p>
      <img src={secret.picture} width={200} height={200} alt="The secret as a QR code" className="mb-2 rounded-lg" />
      <p className="mb-4 font-mono text-sm [overflow-wrap:anywhere]">
        {secret.secret.replace(/(.{4})/g, '$1 ').trim()}
      </p>
      <Field
        label="The code that the app shows now"
        inputMode="numeric"
        autoComplete="one-time-code"
        autoFocus
        required
        {...prove.bind('code')}
      />
      <Wrong error={prove.rest()} />
      <Button look="main" type="submit" disabled={prove.saving.isPending}>
        Confirm
      </Button>
    </form>
  )
}

function Codes({ codes, onDone }: { codes: string[]; onDone: () => void }) {
  return (
    <>
      <p className="mb-3">
        Print these codes, or write them down. Each works once, in place of a code of the app, if that is lost. They are
        not shown again.
      </p>
      <ul className="mb-4 grid gap-x-6 rounded-lg border border-line bg-paper px-4 py-3 font-mono text-sm sm:grid-cols-2">
        {codes.map((c) => (
          <li key={c}>{c}</li>
        ))}
      </ul>
      <div className="flex justify-end">
        <Button look="main" onClick={onDone}>
          I have kept them
        </Button>
      </div>
    </>
  )
}

function NewCodes({ onClose }: { onClose: () => void }) {
  const [codes, setCodes] = useState<string[] | null>(null)
  return (
    <Sheet title="Codes for when the app is lost" open onClose={onClose}>
      {codes ? (
        <Codes codes={codes} onDone={onClose} />
      ) : (
        <PasswordForm
          says="The former codes no longer work then."
          label="Make new codes"
          save={(body) => value(api.POST('/api/v1/me/factor/codes', { body }))}
          saved={(r) => setCodes(r.codes)}
        />
      )}
    </Sheet>
  )
}

function Removing({ onClose }: { onClose: () => void }) {
  return (
    <Sheet title="Remove your second factor?" open onClose={onClose}>
      <PasswordForm
        says="From then on whoever knows your password signs in as you."
        label="Remove it"
        look="seal"
        save={(body) => value(api.DELETE('/api/v1/me/factor', { body }))}
        saved={onClose}
      >
        <Button onClick={onClose}>Keep it</Button>
      </PasswordForm>
    </Sheet>
  )
}

/** What is done only with one's password. Children are further buttons. */
function PasswordForm<T>({
  says,
  label,
  look = 'main',
  save,
  saved,
  children,
}: {
  says: string
  label: string
  look?: 'main' | 'seal'
  save: (body: { password: string }) => Promise<T>
  saved: (result: T) => void
  children?: ReactNode
}) {
  const form = useSettings({ values: { password: '' }, save, saved })
  return (
    <form onSubmit={form.submit}>
      <p className="mb-3 text-ink-2">{says}</p>
      <Field
        label="Your password"
        type="password"
        autoComplete="current-password"
        autoFocus
        required
        {...form.bind('password')}
      />
      <Wrong error={form.rest()} />
      <div className="flex flex-wrap justify-end gap-2">
        {children}
        <Button look={look} type="submit" disabled={form.saving.isPending}>
          {label}
        </Button>
      </div>
    </form>
  )
}

const asked = { nobody: 'of nobody', administrators: 'of administrators', everyone: 'of everyone' } as const

/** How people sign in. For administrators. */
export function SignInCare() {
  const [editing, setEditing] = useState(false)
  const query = useQuery(queries.signIn)
  return (
    <section className="mb-10">
      <div className="mb-2 flex items-center justify-between gap-3">
        <h2>Signing in</h2>
        <Button onClick={() => setEditing(true)} disabled={!query.data}>
          Change how people sign in
        </Button>
      </div>
      <Listing query={query}>
        {(r) => (
          <div className="border-t border-line py-3 text-ink-2">
            <p>A second factor is asked {asked[r.second_factor]}.</p>
            <p className="[overflow-wrap:anywhere]">
              {r.office ? (
                <>
                  People sign in with <span className="font-semibold">{r.office.name}</span> ({r.office.issuer})
                  {r.office.only ? '; only administrators sign in by password.' : ', or by password.'}
                </>
              ) : (
                'People sign in by name and password. If the office has a sign-in of its own (OpenID Connect), they can use that.'
              )}
            </p>
          </div>
        )}
      </Listing>
      {editing && query.data && <SignInSheet rules={query.data} onClose={() => setEditing(false)} />}
    </section>
  )
}

const roleOf = (line: string) => {
  const at = line.lastIndexOf('=')
  return [line.slice(0, at).trim(), line.slice(at + 1).trim()] as const
}

function SignInSheet({ rules, onClose }: { rules: Schemas['SignInRules']; onClose: () => void }) {
  const office = rules.office
  const values = {
    second_factor: rules.second_factor,
    issuer: office?.issuer ?? '',
    client: office?.client ?? '',
    secret: '',
    name: office?.name ?? '',
    claim: office?.claim ?? 'roles',
    roles: Object.entries(office?.roles ?? {})
      .map(([k, v]) => `${k} = ${v}`)
      .join('\n'),
    make_people: office?.make_people ?? false,
    only: office?.only ?? false,
  }
  const body = (v: typeof values): Schemas['SignInSettings'] => ({
    second_factor: v.second_factor,
    office: {
      issuer: v.issuer,
      client: v.client,
      secret: v.secret || undefined,
      name: v.name || 'the office',
      claim: v.claim || 'roles',
      roles: Object.fromEntries(
        v.roles
          .split('\n')
          .filter((l) => l.trim())
          .map(roleOf),
      ) as Record<string, Schemas['Role']>,
      make_people: v.make_people,
      only: v.only,
    },
  })
  const form = useSettings<typeof values, unknown>({
    values,
    revision: rules.revision,
    names: { 'office.issuer': 'issuer', 'office.client': 'client', 'office.secret': 'secret', 'office.roles': 'roles' },
    save: (v, on) => value(api.PUT('/api/v1/sign-in', { params: { header: ifMatch(on) }, body: body(v) })),
    saved: onClose,
  })
  const { bind, held, now } = form
  return (
    <Sheet title="How people sign in" open onClose={onClose}>
      <form onSubmit={form.submit}>
        <Pick
          label="A second factor is asked"
          choices={[
            ['nobody', 'of nobody; who wants one has one'],
            ['administrators', 'of administrators'],
            ['everyone', 'of everyone'],
          ]}
          hint="Codes of an authenticator app. Who has none yet sets one up at the next sign-in."
          {...held('second_factor')}
        />
        <h3 className="mb-2 font-semibold">The office’s own sign-in</h3>
        <Field
          label="Its address"
          type="url"
          hint={`OpenID Connect; empty for none. There this service returns to ${rules.return_address}.`}
          {...bind('issuer')}
        />
        {now.issuer && (
          <>
            <div className="grid gap-x-3 sm:grid-cols-2">
              <Field label="What this service is called there" required hint="client id" {...bind('client')} />
              <Field
                label="Secret"
                type="password"
                autoComplete="off"
                hint={rules.secret_kept ? 'Empty: it stays as it is.' : 'if the sign-in gave you one'}
                {...bind('secret')}
              />
              <Field label="What people call it" hint="Sign in with …" {...bind('name')} />
              <Field label="The claim that gives the role" {...bind('claim')} />
            </div>
            <Lines
              label="Roles, one in each line"
              hint="berth desk = clerk. Whom no line gives a role keeps the one that she has."
              code
              {...bind('roles')}
            />
            <Tick
              label="Let in whom a line gives a role, also if nobody invited them"
              checked={now.make_people}
              onChange={(v) => form.set('make_people', v)}
            />
            <Tick
              label="Only administrators sign in by password"
              checked={now.only}
              onChange={(v) => form.set('only', v)}
            />
          </>
        )}
        <div className="mt-4">
          <End
            of={form}
            label="Save"
            onClose={onClose}
            mine={body(now)}
            look={() => value(api.GET('/api/v1/sign-in'))}
          />
        </div>
      </form>
    </Sheet>
  )
}
