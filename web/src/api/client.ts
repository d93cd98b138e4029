import { t } from '@lingui/core/macro'
import createClient from 'openapi-fetch'

import { i18n } from '../ui/language'
import type { components, paths } from './schema'
import { address, machine } from './where'

export type Schemas = components['schemas']

const asking = (at: string) =>
  createClient<paths>({
    baseUrl: '',
    Request: class extends Request {
      constructor(to: RequestInfo | URL, init?: RequestInit) {
        super(typeof to === 'string' ? address(to, at) : to, init)
        this.headers.set('Accept-Language', i18n.locale) // the texts of answers are in the language of the pages
      }
    },
  })

/** Asks the machine that these pages are about. */
export const api = asking(machine)
/** Asks the machine that serves these pages, where people sign in. */
export const home = machine ? asking('') : api

const others = new Map<string, typeof api>()
/** Asks another machine of the office by its name; without one, the machine that these pages are about. */
export function apiAt(name?: string): typeof api {
  if (!name) return api
  const known = others.get(name) ?? asking(name)
  others.set(name, known)
  return known
}

/** What the service says is wrong. */
export class Problem extends Error {
  readonly status: number
  /** What kind of problem it is: the end of its type, such as second-factor. */
  readonly kind: string
  readonly advice?: string
  readonly fields: Schemas['FieldProblem'][]
  /** Under which name the service's log says more. */
  readonly request?: string
  constructor(p: Partial<Schemas['Problem']>, status: number) {
    super(p.detail ?? t`The service answers ${status}.`)
    this.status = p.status ?? status
    this.kind = p.type?.split(':').pop() ?? ''
    this.advice = p.advice
    this.request = p.request
    this.fields = p.problems ?? []
  }
}

/** Lets a change be made only to the state that was read (RFC 9110 section 13.1.1). */
export const ifMatch = (revision?: number) => ({ 'If-Match': `"${revision}"` })

/** A file as the content of a request, as it is. The types know only texts. */
export const octets = (f: Blob) => ({
  body: f as unknown as string,
  bodySerializer: (body: string) => body,
  headers: { 'Content-Type': 'application/octet-stream' },
})

/** Turns an answer into its value, or throws what the service says is wrong. */
export async function value<T>(answer: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  const { data, error, response } = await answer.catch(() => {
    throw new Problem(
      { detail: t`Ink Tray does not answer.`, advice: t`Check that the service runs and that you are connected.` },
      0,
    )
  })
  if (error !== undefined || !response.ok) throw new Problem(error ?? {}, response.status)
  return data as T
}
