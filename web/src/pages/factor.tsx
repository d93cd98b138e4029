import { t } from '@lingui/core/macro'
import { Plural, Trans } from '@lingui/react/macro'
import { useQuery, useQueryClient } from '@tanstack/react-query'
import { type ReactNode, useState } from 'react'

import { api, ifMatch, type Schemas, value } from '../api/client'
import { addPasskey, passkeysWork } from '../api/passkey'
import { keys, queries } from '../api/queries'
import { Button, Field, Lines, Listing, Pick, Sheet, Tick, Wrong } from '../ui/basics'
import { End, useSettings } from '../ui/form'
import { exactly, when } from '../ui/format'

type Doing = 'set up' | 'passkey' | 'codes' | 'remove' | Schemas['Passkey']

/** What one has besides the password: codes of an authenticator app, and passkeys. */
export function Factor() {
  const client = useQueryClient()
  const query = useQuery(queries.factor)
  const [doing, setDoing] = useState<Doing | null>(null)
  const close = () => {
    setDoing(null)
    void client.invalidateQueries({ queryKey: keys.factor })
  }
  return (
    <section className="mb-10 max-w-4xl">
      <div className="mb-2 flex flex-wrap items-center justify-between gap-3">
        <h2>
          <Trans>Your second factor</Trans>
        </h2>
        <span className="flex flex-wrap gap-2">
          {query.data?.set_up && (
            <Button onClick={() => setDoing('codes')}>
              <Trans>New recovery codes</Trans>
            </Button>
          )}
          <Button onClick={() => setDoing('set up')} disabled={!query.data}>
            {query.data?.since ? t`Use another app` : t`Set up an app`}
          </Button>
          {passkeysWork() && (
            <Button onClick={() => setDoing('passkey')} disabled={!query.data}>
              <Trans>Add a passkey</Trans>
            </Button>
          )}
        </span>
      </div>
      <Listing query={query}>
        {(f) => (
          <>
            {!f.set_up && (
              <p className="border-t border-line py-3 text-ink-2">
                <Trans>
                  None: anyone who knows your password can sign in as you.{f.asked && t` You need one here.`} With a
                  passkey you sign in by finger, face or PIN, without the password. Codes from an app on your phone also
                  work on the command line.
                </Trans>
              </p>
            )}
            {f.since && (
              <Kept onRemove={() => setDoing('remove')} name={t`the authenticator app`}>
                <Trans>Codes of your authenticator app, asked for since {exactly(f.since)}.</Trans>
              </Kept>
            )}
            {f.passkeys.map((k) => (
              <Kept key={k.id} onRemove={() => setDoing(k)} name={t`the passkey ${k.name}`}>
                <Trans>
                  The passkey <span className="font-semibold">{k.name}</span> for {k.host},{' '}
                  {k.used_at ? t`used last ${when(k.used_at)}` : t`added ${when(k.made_at)} and not used yet`}.
                </Trans>
              </Kept>
            ))}
            {f.set_up && (
              <p className="border-t border-line py-3 text-ink-2">
                <Trans>
                  <Plural value={f.codes} one="# recovery code is" other="# recovery codes are" /> left.
                </Trans>
              </p>
            )}
          </>
        )}
      </Listing>
      {doing === 'set up' && (
        <Sheet title={t`Codes of an authenticator app`} open onClose={close}>
          <SetUp onDone={close} />
        </Sheet>
      )}
      {doing === 'passkey' && (
        <Sheet title={t`A passkey`} open onClose={close}>
          <AddPasskey onDone={close} />
        </Sheet>
      )}
      {doing === 'codes' && <NewCodes onClose={close} />}
      {doing === 'remove' && (
        <Removing
          title={t`Remove the codes of your app?`}
          says={t`You then no longer need a code of the app to sign in.`}
          save={(body) => value(api.DELETE('/api/v1/me/factor', { body }))}
          onClose={close}
        />
      )}
      {doing !== null && typeof doing === 'object' && (
        <Removing
          title={t`Remove the passkey “${doing.name}”?`}
          says={t`You can then no longer sign in with this device. Remove the passkey from the device, too.`}
          save={(body) => value(api.DELETE('/api/v1/me/passkeys/{id}', { params: { path: { id: doing.id } }, body }))}
          onClose={close}
        />
      )}
    </section>
  )
}

function Kept({ children, name, onRemove }: { children: ReactNode; name: string; onRemove: () => void }) {
  return (
    <div className="flex flex-wrap items-center justify-between gap-3 border-t border-line py-2.5">
      <p className="[overflow-wrap:anywhere]">{children}</p>
      <Button onClick={onRemove} aria-label={t`Remove ${name}`}>
        <Trans>Remove</Trans>
      </Button>
    </div>
  )
}

/** Adds a passkey of a device: the password, what the device is called, and what the browser asks. */
export function AddPasskey({ onDone }: { onDone: () => void }) {
  const [codes, setCodes] = useState<string[] | null>(null)
  const form = useSettings({
    values: { name: '', password: '' },
    save: addPasskey,
    saved: (r) => (r.codes.length > 0 ? setCodes(r.codes) : onDone()),
  })
  if (codes) return <Codes codes={codes} onDone={onDone} />
  return (
    <form onSubmit={form.submit}>
      <p className="mb-3 text-ink-2">
        <Trans>
          The browser then asks for your finger, your face or the PIN of the device. After that, the password alone is
          no longer enough.
        </Trans>
      </p>
      <Field
        label={t`Name of the device`}
        required
        autoFocus
        maxLength={100}
        hint={t`such as “laptop” or “blue key”`}
        {...form.bind('name')}
      />
      <Field
        label={t`Your password`}
        type="password"
        autoComplete="current-password"
        required
        {...form.bind('password')}
      />
      <Wrong error={form.rest()} />
      <div className="flex justify-end">
        <Button look="main" type="submit" disabled={form.saving.isPending}>
          <Trans>Add the passkey</Trans>
        </Button>
      </div>
    </form>
  )
}

/** Sets up an authenticator app: the password, the secret, a first code, and recovery codes. */
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
        says={t`You need an authenticator app on your phone, or in your password manager.`}
        label={t`Next`}
        save={(body) => value(api.POST('/api/v1/me/factor', { body }))}
        saved={setSecret}
      />
    )
  return (
    <form onSubmit={prove.submit}>
      <p className="mb-3 text-ink-2">
        <Trans>Scan this picture with the app, or enter the secret that stands below it.</Trans>
      </p>
      <img src={secret.picture} width={200} height={200} alt={t`The secret as a QR code`} className="mb-2 rounded-lg" />
      <p className="mb-4 font-mono text-sm [overflow-wrap:anywhere]">
        {secret.secret.replace(/(.{4})/g, '$1 ').trim()}
      </p>
      <Field
        label={t`The code that the app shows now`}
        inputMode="numeric"
        autoComplete="one-time-code"
        autoFocus
        required
        {...prove.bind('code')}
      />
      <Wrong error={prove.rest()} />
      <Button look="main" type="submit" disabled={prove.saving.isPending}>
        <Trans>Confirm</Trans>
      </Button>
    </form>
  )
}

function Codes({ codes, onDone }: { codes: string[]; onDone: () => void }) {
  return (
    <>
      <p className="mb-3">
        <Trans>
          These are your recovery codes: print them, or write them down. Each works once, in place of the app or the
          passkey, if that is lost. They are not shown again.
        </Trans>
      </p>
      <ul className="mb-4 grid gap-x-6 rounded-lg border border-line bg-paper px-4 py-3 font-mono text-sm sm:grid-cols-2">
        {codes.map((c) => (
          <li key={c}>{c}</li>
        ))}
      </ul>
      <div className="flex justify-end">
        <Button look="main" onClick={onDone}>
          <Trans>I have kept them</Trans>
        </Button>
      </div>
    </>
  )
}

function NewCodes({ onClose }: { onClose: () => void }) {
  const [codes, setCodes] = useState<string[] | null>(null)
  return (
    <Sheet title={t`New recovery codes`} open onClose={onClose}>
      {codes ? (
        <Codes codes={codes} onDone={onClose} />
      ) : (
        <PasswordForm
          says={t`The former codes no longer work then.`}
          label={t`Make new codes`}
          save={(body) => value(api.POST('/api/v1/me/factor/codes', { body }))}
          saved={(r) => setCodes(r.codes)}
        />
      )}
    </Sheet>
  )
}

function Removing({
  title,
  says,
  save,
  onClose,
}: {
  title: string
  says: string
  save: (body: { password: string }) => Promise<unknown>
  onClose: () => void
}) {
  return (
    <Sheet title={title} open onClose={onClose}>
      <PasswordForm says={says} label={t`Remove it`} look="seal" save={save} saved={onClose}>
        <Button onClick={onClose}>
          <Trans>Keep it</Trans>
        </Button>
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
        label={t`Your password`}
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

const asked = { nobody: t`of nobody`, administrators: t`of administrators`, everyone: t`of everyone` } as const

/** How people sign in. For administrators. */
export function SignInCare() {
  const [editing, setEditing] = useState(false)
  const query = useQuery(queries.signIn)
  return (
    <section className="mb-10">
      <div className="mb-2 flex items-center justify-between gap-3">
        <h2>
          <Trans>Signing in</Trans>
        </h2>
        <Button onClick={() => setEditing(true)} disabled={!query.data}>
          <Trans>Change how people sign in</Trans>
        </Button>
      </div>
      <Listing query={query}>
        {(r) => (
          <div className="border-t border-line py-3 text-ink-2">
            <p>
              <Trans>A second factor is asked {asked[r.second_factor]}.</Trans>
            </p>
            <p className="[overflow-wrap:anywhere]">
              {r.office ? (
                <Trans>
                  People sign in with <span className="font-semibold">{r.office.name}</span> ({r.office.issuer})
                  {r.office.only ? t`; only administrators sign in by password.` : t`, or by password.`}
                </Trans>
              ) : (
                t`People sign in by name and password. If the office has a sign-in of its own (OpenID Connect), they can use that.`
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
      name: v.name || t`the office`,
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
    <Sheet title={t`How people sign in`} open onClose={onClose}>
      <form onSubmit={form.submit}>
        <Pick
          label={t`A second factor is asked`}
          choices={[
            ['nobody', t`of nobody; people may set one up themselves`],
            ['administrators', t`of administrators`],
            ['everyone', t`of everyone`],
          ]}
          hint={t`A passkey, or codes of an authenticator app. People who have none set one up at their next sign-in.`}
          {...held('second_factor')}
        />
        <h3 className="mb-2 font-semibold">
          <Trans>The office’s own sign-in</Trans>
        </h3>
        <Field
          label={t`Its address`}
          type="url"
          hint={t`OpenID Connect; leave empty for none. That sign-in must allow this return address: ${rules.return_address}.`}
          {...bind('issuer')}
        />
        {now.issuer && (
          <>
            <div className="grid gap-x-3 sm:grid-cols-2">
              <Field label={t`Name of Ink Tray there`} required hint={t`client id`} {...bind('client')} />
              <Field
                label={t`Secret`}
                type="password"
                autoComplete="off"
                hint={rules.secret_kept ? t`Leave empty to keep it.` : t`if the sign-in gave you one`}
                {...bind('secret')}
              />
              <Field label={t`Name that people see`} hint={t`Sign in with …`} {...bind('name')} />
              <Field label={t`The claim that gives the role`} {...bind('claim')} />
            </div>
            <Lines
              label={t`Roles, one per line`}
              hint={t`Such as: berth desk = clerk. People that no line names keep their role.`}
              code
              {...bind('roles')}
            />
            <Tick
              label={t`Let people in whom a line names, even if nobody invited them`}
              checked={now.make_people}
              onChange={(v) => form.set('make_people', v)}
            />
            <Tick
              label={t`Only administrators sign in by password`}
              checked={now.only}
              onChange={(v) => form.set('only', v)}
            />
          </>
        )}
        <div className="mt-4">
          <End
            of={form}
            label={t`Save`}
            onClose={onClose}
            mine={body(now)}
            look={() => value(api.GET('/api/v1/sign-in'))}
          />
        </div>
      </form>
    </Sheet>
  )
}
