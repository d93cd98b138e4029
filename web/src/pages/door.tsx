import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { type ReactNode, useState } from 'react'
import { useForm } from 'react-hook-form'

import { api, Problem, type Schemas, value } from '../api/client'
import { passkeysWork, signInByPasskey } from '../api/passkey'
import { queries } from '../api/queries'
import { Button, Field, Wrong } from '../ui/basics'
import { AddPasskey, SetUp as SetUpFactor } from './factor'

function Door({ title, sub, children }: { title: string; sub: string; children: ReactNode }) {
  return (
    <main className="mx-auto max-w-md px-5 pt-[12vh]">
      <p className="mb-6 font-serif text-2xl font-semibold">
        <Trans>Ink Tray</Trans>
      </p>
      <div className="rounded-xl border border-line bg-sheet p-7 shadow-sheet">
        <h1 className="mb-1">{title}</h1>
        <p className="mb-5 text-ink-2">{sub}</p>
        {children}
      </div>
    </main>
  )
}

/** Whether a code is asked for: of the authenticator app, or a recovery code. */
const asksForCode = (error: unknown) =>
  error instanceof Problem && (error.kind === 'second-factor' || error.kind === 'passkey')

/** The field for it. */
const codeFor = (error: unknown) =>
  error instanceof Problem && error.kind === 'passkey'
    ? {
        label: t`Recovery code`,
        hint: t`You have a passkey: sign in with that, or give one of your recovery codes.`,
      }
    : { label: t`Code of your authenticator app`, hint: t`Six digits, or one of your recovery codes.` }

/** Why somebody did not come in by the office's sign-in. */
const officeSays: Record<string, string> = {
  closed: t`There is no sign-in of the office any more. Sign in by password.`,
  silent: t`The office’s sign-in does not answer. Try again later, or sign in by password.`,
  late: t`The way to the office’s sign-in and back took too long, or began in another browser. Try again.`,
  refused: t`The office’s sign-in did not let you in.`,
  unbelieved: t`The answer of the office’s sign-in is not valid. Tell an administrator. The log of the service says more.`,
  uninvited: t`You are not invited yet. Ask an administrator, and tell them the mail address that you use at the office’s sign-in.`,
  locked: t`You are locked out. Ask an administrator.`,
}

const welcomes: Record<Schemas['Person']['role'], string> = {
  reader: t`You are a reader here. Choose a password.`,
  clerk: t`You are a clerk here. Choose a password.`,
  administrator: t`You are an administrator here. Choose a password.`,
}

export function SignIn() {
  const client = useQueryClient()
  const form = useForm({ defaultValues: { name: '', password: '', code: '' } })
  const office = useQuery(queries.officeDoor)
  const said = officeSays[new URLSearchParams(window.location.hash.slice(1)).get('office') ?? '']
  const [coded, setCoded] = useState<ReturnType<typeof codeFor> | null>(null)
  const enter = useMutation({
    mutationFn: ({ code, ...body }: { name: string; password: string; code: string }) =>
      value(api.POST('/api/v1/sessions', { body: code ? { ...body, code } : body })),
    onSuccess: (me) => {
      window.history.replaceState(null, '', window.location.pathname)
      client.setQueryData(queries.me.queryKey, me)
    },
    onError: (e) => {
      if (asksForCode(e)) setCoded(codeFor(e))
      form.setValue('code', '')
    },
  })
  const byPasskey = useMutation({
    mutationFn: signInByPasskey,
    onSuccess: (me) => {
      window.history.replaceState(null, '', window.location.pathname)
      client.setQueryData(queries.me.queryKey, me)
    },
  })
  const asking = coded && asksForCode(enter.error) && !form.formState.dirtyFields.code
  return (
    <Door title={t`Sign in`} sub={t`Attachments, filed by rule.`}>
      {said && <Wrong error={new Error(said)} />}
      {office.data?.open && (
        <>
          <a
            className="mb-4 block rounded-lg border border-ink bg-ink px-4 py-2 text-center text-sm font-semibold text-sheet"
            href="/api/v1/office-door/go"
          >
            <Trans>Sign in with {office.data.name}</Trans>
          </a>
          <p className="mb-3 text-sm text-ink-3">
            {office.data.only ? t`Administrators can sign in by password, too:` : t`Or by password:`}
          </p>
        </>
      )}
      {office.data?.passkeys && passkeysWork() && (
        <div className="mb-5">
          <Button className="w-full" onClick={() => byPasskey.mutate()} disabled={byPasskey.isPending}>
            <Trans>Sign in with a passkey</Trans>
          </Button>
          <Wrong error={byPasskey.error} />
        </div>
      )}
      <form onSubmit={form.handleSubmit((s) => enter.mutate(s))}>
        <Field
          label={t`Name`}
          autoComplete="username"
          autoFocus={!office.data?.open}
          required
          {...form.register('name')}
        />
        <Field
          label={t`Password`}
          type="password"
          autoComplete="current-password"
          required
          {...form.register('password')}
        />
        {coded && <Field autoComplete="one-time-code" autoFocus required {...coded} {...form.register('code')} />}
        {!(asking && enter.variables?.code === '') && <Wrong error={enter.error} />}
        <Button look="main" type="submit" disabled={enter.isPending}>
          <Trans>Sign in</Trans>
        </Button>
      </form>
    </Door>
  )
}

/** Where somebody sets up a second factor, who has none and of whom one is asked. */
export function Enrol({ name }: { name: string }) {
  const client = useQueryClient()
  const [passkey, setPasskey] = useState(false)
  const With = passkey ? AddPasskey : SetUpFactor
  return (
    <Door title={t`One more thing`} sub={t`Welcome, ${name}. You need a second factor here.`}>
      <With
        onDone={() => {
          client.clear()
          window.location.assign('/')
        }}
      />
      {passkeysWork() && (
        <button className="mt-4 text-sm text-pen hover:underline" onClick={() => setPasskey(!passkey)}>
          {passkey ? t`Use codes of an app on your phone instead` : t`Use a passkey of this device instead`}
        </button>
      )}
    </Door>
  )
}

export function SetUp() {
  const client = useQueryClient()
  const form = useForm({
    mode: 'onChange',
    defaultValues: { code: window.location.hash.slice(1), name: '', password: '' },
  })
  const make = useMutation({
    mutationFn: (s: { code: string; name: string; password: string }) =>
      value(api.POST('/api/v1/setup', { body: { ...s, code: s.code.trim() } })),
    onSuccess: (me) => {
      window.history.replaceState(null, '', '/')
      client.setQueryData(queries.me.queryKey, me)
    },
  })
  return (
    <Door title={t`Welcome`} sub={t`You are the first person here. Create the administrator’s account.`}>
      <form onSubmit={form.handleSubmit((s) => make.mutate(s))}>
        {!window.location.hash && (
          <Field
            label={t`Set-up code`}
            required
            hint={t`The service printed it when it started, at the end of the link.`}
            {...form.register('code')}
          />
        )}
        <Field label={t`Your name`} autoComplete="username" autoFocus required {...form.register('name')} />
        <Field
          label={t`Choose a password`}
          type="password"
          autoComplete="new-password"
          required
          hint={t`At least ten characters.`}
          error={form.formState.errors.password?.message}
          {...form.register('password', {
            minLength: { value: 10, message: t`At least ten characters, please.` },
          })}
        />
        <Wrong error={make.error} />
        <Button look="main" type="submit" disabled={make.isPending}>
          <Trans>Begin</Trans>
        </Button>
      </form>
    </Door>
  )
}

/** Where somebody chooses a password, by a link that works once. */
export function Join() {
  const code = window.location.hash.slice(1)
  const client = useQueryClient()
  const form = useForm({ mode: 'onChange', defaultValues: { password: '', factor: '' } })
  const who = useQuery({
    queryKey: ['link', code],
    queryFn: () => value(api.POST('/api/v1/links/look', { body: { code } })),
    retry: false,
    enabled: code !== '',
  })
  const use = useMutation({
    mutationFn: (s: { password: string; factor: string }) =>
      value(
        api.POST('/api/v1/links/use', { body: { code, password: s.password, ...(s.factor && { factor: s.factor }) } }),
      ),
    onSuccess: () => {
      client.clear()
      window.location.assign('/')
    },
  })
  if (code === '' || who.error)
    return (
      <Door title={t`This link does not work`} sub={t`Nobody can sign in with it.`}>
        <Wrong error={who.error ?? new Error(t`the link is not whole`)} />
        <a className="text-pen hover:underline" href="/">
          <Trans>Sign in with a password</Trans>
        </a>
      </Door>
    )
  if (!who.data) return null
  return (
    <Door title={t`Welcome, ${who.data.name}`} sub={welcomes[who.data.role]}>
      <form onSubmit={form.handleSubmit((s) => use.mutate(s))}>
        <input type="text" hidden readOnly autoComplete="username" value={who.data.name} />
        <Field
          label={t`Password`}
          type="password"
          autoComplete="new-password"
          autoFocus
          required
          hint={t`At least ten characters. You sign in with your name and this password.`}
          error={form.formState.errors.password?.message}
          {...form.register('password', {
            minLength: { value: 10, message: t`At least ten characters, please.` },
          })}
        />
        {asksForCode(use.error) && (
          <Field autoComplete="one-time-code" required {...codeFor(use.error)} {...form.register('factor')} />
        )}
        <Wrong error={use.error} />
        <Button look="main" type="submit" disabled={use.isPending}>
          <Trans>Sign in </Trans>
        </Button>
      </form>
    </Door>
  )
}
