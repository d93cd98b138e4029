import { useMutation, useQueryClient } from '@tanstack/react-query'
import { type FormEvent, type ReactNode, useState } from 'react'

import { api, value } from '../api/client'
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
  const [name, setName] = useState('')
  const [password, setPassword] = useState('')
  const enter = useMutation({
    mutationFn: () => value(api.POST('/api/v1/sessions', { body: { name, password } })),
    onSuccess: (me) => client.setQueryData(['me'], me),
  })
  const submit = (e: FormEvent) => { e.preventDefault(); enter.mutate() }
  return (
    <Door title="Sign in" sub="Everything that is filed, and how.">
      <form onSubmit={submit}>
        <Field label="Name" autoComplete="username" autoFocus required value={name} onChange={(e) => setName(e.target.value)} />
        <Field label="Password" type="password" autoComplete="current-password" required value={password} onChange={(e) => setPassword(e.target.value)} />
        <Wrong error={enter.error} />
        <Button look="main" type="submit" disabled={enter.isPending}>Sign in</Button>
      </form>
    </Door>
  )
}

export function SetUp() {
  const client = useQueryClient()
  const [code, setCode] = useState(() => window.location.hash.slice(1))
  const [name, setName] = useState('')
  const [password, setPassword] = useState('')
  const make = useMutation({
    mutationFn: () => value(api.POST('/api/v1/setup', { body: { code: code.trim(), name, password } })),
    onSuccess: (me) => { window.history.replaceState(null, '', '/'); client.setQueryData(['me'], me) },
  })
  const short = password !== '' && password.length < 10
  return (
    <Door title="Welcome" sub="You are the first here: make yourself the administrator.">
      <form onSubmit={(e) => { e.preventDefault(); make.mutate() }}>
        {!window.location.hash && <Field label="Set-up code" required value={code} onChange={(e) => setCode(e.target.value)} hint="It stands at the end of the link that the service printed when it started." />}
        <Field label="Your name" autoComplete="username" autoFocus required value={name} onChange={(e) => setName(e.target.value)} />
        <Field label="Choose a password" type="password" autoComplete="new-password" required value={password} onChange={(e) => setPassword(e.target.value)} hint="At least ten characters." error={short ? 'At least ten characters, please.' : undefined} />
        <Wrong error={make.error} />
        <Button look="main" type="submit" disabled={make.isPending || short}>Begin</Button>
      </form>
    </Door>
  )
}
