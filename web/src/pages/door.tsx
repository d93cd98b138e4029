import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { type ReactNode } from 'react'
import { useForm } from 'react-hook-form'

import { api, value } from '../api/client'
import { queries } from '../api/queries'
import { Button, Field, Wrong } from '../ui/basics'

function Door({ title, sub, children }: { title: string; sub: string; children: ReactNode }) {
  return (
    <main className="mx-auto max-w-md px-5 pt-[12vh]">
      <p className="mb-6 font-serif text-2xl font-semibold">Ink Tray</p>
      <div className="rounded-xl border border-line bg-sheet p-7 shadow-sheet">
        <h1 className="mb-1">{title}</h1>
        <p className="mb-5 text-ink-2">{sub}</p>
        {children}
      </div>
    </main>
  )
}

export function SignIn() {
  const client = useQueryClient()
  const form = useForm({ defaultValues: { name: '', password: '' } })
  const enter = useMutation({
    mutationFn: (body: { name: string; password: string }) => value(api.POST('/api/v1/sessions', { body })),
    onSuccess: (me) => client.setQueryData(queries.me.queryKey, me),
  })
  return (
    <Door title="Sign in" sub="Everything that is filed, and how.">
      <form onSubmit={form.handleSubmit((s) => enter.mutate(s))}>
        <Field label="Name" autoComplete="username" autoFocus required {...form.register('name')} />
        <Field
          label="Password"
          type="password"
          autoComplete="current-password"
          required
          {...form.register('password')}
        />
        <Wrong error={enter.error} />
        <Button look="main" type="submit" disabled={enter.isPending}>
          Sign in
        </Button>
      </form>
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
    <Door title="Welcome" sub="You are the first here: make yourself the administrator.">
      <form onSubmit={form.handleSubmit((s) => make.mutate(s))}>
        {!window.location.hash && (
          <Field
            label="Set-up code"
            required
            hint="It stands at the end of the link that the service printed when it started."
            {...form.register('code')}
          />
        )}
        <Field label="Your name" autoComplete="username" autoFocus required {...form.register('name')} />
        <Field
          label="Choose a password"
          type="password"
          autoComplete="new-password"
          required
          hint="At least ten characters."
          error={form.formState.errors.password?.message}
          {...form.register('password', {
            minLength: { value: 10, message: 'At least ten characters, please.' },
          })}
        />
        <Wrong error={make.error} />
        <Button look="main" type="submit" disabled={make.isPending}>
          Begin
        </Button>
      </form>
    </Door>
  )
}

/** Where somebody chooses a password, by a link that works once. */
export function Join() {
  const code = window.location.hash.slice(1)
  const client = useQueryClient()
  const form = useForm({ mode: 'onChange', defaultValues: { password: '' } })
  const who = useQuery({
    queryKey: ['link', code],
    queryFn: () => value(api.POST('/api/v1/links/look', { body: { code } })),
    retry: false,
    enabled: code !== '',
  })
  const use = useMutation({
    mutationFn: (s: { password: string }) =>
      value(api.POST('/api/v1/links/use', { body: { code, password: s.password } })),
    onSuccess: () => {
      client.clear()
      window.location.assign('/')
    },
  })
  if (code === '' || who.error)
    return (
      <Door title="This link does not work" sub="Nobody can come in by it.">
        <Wrong error={who.error ?? new Error('the link is not whole')} />
        <a className="text-pen hover:underline" href="/">
          Sign in with a password
        </a>
      </Door>
    )
  if (!who.data) return null
  return (
    <Door title={`Welcome, ${who.data.name}`} sub={`You come in as ${who.data.role}. Choose a password.`}>
      <form onSubmit={form.handleSubmit((s) => use.mutate(s))}>
        <input type="text" hidden readOnly autoComplete="username" value={who.data.name} />
        <Field
          label="Password"
          type="password"
          autoComplete="new-password"
          autoFocus
          required
          hint="At least ten characters. You sign in with your name and this password."
          error={form.formState.errors.password?.message}
          {...form.register('password', {
            minLength: { value: 10, message: 'At least ten characters, please.' },
          })}
        />
        <Wrong error={use.error} />
        <Button look="main" type="submit" disabled={use.isPending}>
          Come in
        </Button>
      </form>
    </Door>
  )
}
