import { keepPreviousData, queryOptions } from '@tanstack/react-query'

import { api, apiAt, home, value } from './client'
import { machine } from './where'

/** The part of the register that is asked for. */
export type Asked = { text?: string; rule?: string; cabinet?: string; folder?: string }
/** By what the register is counted. */
export type Selected = { selected: string; occurrence: number; in: 'text' | 'subject' }
export type By = 'day' | 'month' | 'rule' | 'mailbox' | 'sender' | 'kind'

/**
 * The keys under which answers are kept, each defined once. What begins with a key is invalidated with it: `passes`
 * stands for every list of passes and for each of them.
 */
export const keys = {
  addressees: ['addressees'],
  alarms: ['alarms'],
  backup: ['backup'],
  replica: ['replica'],
  cabinetFolders: ['cabinet folders'],
  cabinets: ['cabinets'],
  /** One's own second factor. */
  factor: ['factor'],
  /** The lines of the register as a table or as messages, by pages. */
  filings: ['filings'],
  /** Sessions and tokens. */
  keys: ['keys'],
  limits: ['limits'],
  /** The mail that lies in a mailbox, read from its server. */
  look: ['look'],
  machines: ['machines'],
  mailboxes: ['mailboxes'],
  message: ['message'],
  messages: ['messages'],
  messageTopics: ['message topics'],
  outgoing: ['outgoing'],
  signIn: ['sign-in'],
  /** People and groups. */
  people: ['people'],
  passes: ['passes'],
  register: ['register'],
  registerFiles: ['register', 'files'],
  registerLanguage: ['register', 'language'],
  rehearsal: ['rehearsal'],
  rules: ['rules'],
  today: ['today'],
  topics: ['topics'],
  tray: ['tray'],
} as const

/** What the whole office is asked: this machine and, where it knows others, those, too. */
export const office = { everywhere: true } as const

const one = (id: string) => ({ params: { path: { id } } })

/** What the pages read of the service: each call and its key. */
export const queries = {
  me: queryOptions({ queryKey: ['me'], queryFn: () => value(api.GET('/api/v1/me')) }),
  setup: queryOptions({ queryKey: ['setup'], queryFn: () => value(api.GET('/api/v1/setup')) }),
  ready: queryOptions({ queryKey: ['ready'], queryFn: () => value(api.GET('/api/v1/ready')) }),
  people: queryOptions({ queryKey: keys.people, queryFn: () => value(api.GET('/api/v1/people')) }),
  factor: queryOptions({ queryKey: keys.factor, queryFn: () => value(api.GET('/api/v1/me/factor')) }),
  signIn: queryOptions({ queryKey: keys.signIn, queryFn: () => value(api.GET('/api/v1/sign-in')) }),
  officeDoor: queryOptions({ queryKey: ['office door'], queryFn: () => value(api.GET('/api/v1/office-door')) }),
  groups: queryOptions({
    queryKey: [...keys.people, 'groups'],
    queryFn: () => value(api.GET('/api/v1/groups')),
  }),
  keys: (all: boolean) =>
    queryOptions({
      queryKey: [...keys.keys, all],
      queryFn: () => value(all ? api.GET('/api/v1/keys') : api.GET('/api/v1/me/keys')),
    }),
  today: queryOptions({
    queryKey: keys.today,
    queryFn: () => value(api.GET('/api/v1/today', { params: { query: office } })),
  }),
  tray: queryOptions({
    queryKey: keys.tray,
    queryFn: () => value(api.GET('/api/v1/tray', { params: { query: office } })),
  }),

  machines: queryOptions({ queryKey: keys.machines, queryFn: () => value(api.GET('/api/v1/machines')) }),
  /** The machine that these pages are about, as the one knows it that serves them. */
  machine: queryOptions({
    queryKey: [...keys.machines, 'one'],
    queryFn: () => value(home.GET('/api/v1/machines/{name}', { params: { path: { name: machine } } })),
    enabled: machine !== '',
    refetchInterval: 10_000,
  }),

  mailboxes: queryOptions({ queryKey: keys.mailboxes, queryFn: () => value(api.GET('/api/v1/mailboxes')) }),
  mailboxesOf: (of?: string) =>
    queryOptions({
      queryKey: [...keys.mailboxes, 'of', of],
      queryFn: () => value(apiAt(of).GET('/api/v1/mailboxes')),
    }),
  mailboxRemains: (id: string) =>
    queryOptions({
      queryKey: [...keys.mailboxes, 'remains', id],
      queryFn: () => value(api.GET('/api/v1/mailboxes/{id}/remains', one(id))),
    }),
  folders: (mailbox: string) =>
    queryOptions({
      queryKey: ['folders', mailbox],
      queryFn: () => value(api.GET('/api/v1/mailboxes/{id}/folders', one(mailbox))),
      enabled: mailbox !== '',
    }),
  receiving: queryOptions({ queryKey: ['receiving'], queryFn: () => value(api.GET('/api/v1/receiving')) }),

  cabinets: queryOptions({ queryKey: keys.cabinets, queryFn: () => value(api.GET('/api/v1/cabinets')) }),
  cabinetsOf: (of?: string) =>
    queryOptions({
      queryKey: [...keys.cabinets, 'of', of],
      queryFn: () => value(apiAt(of).GET('/api/v1/cabinets')),
    }),
  cabinetFolders: (cabinet: string, within: string) =>
    queryOptions({
      queryKey: [...keys.cabinetFolders, cabinet, within],
      queryFn: () =>
        value(api.GET('/api/v1/cabinets/{id}/folders', { params: { path: { id: cabinet }, query: { within } } })),
    }),
  unknown: (cabinet: string) =>
    queryOptions({
      queryKey: ['unknown', cabinet],
      queryFn: () =>
        value(api.GET('/api/v1/cabinets/{id}/unknown', { params: { path: { id: cabinet }, query: { most: 1000 } } })),
    }),

  rules: queryOptions({ queryKey: keys.rules, queryFn: () => value(api.GET('/api/v1/rules')) }),
  rule: (id: string) =>
    queryOptions({ queryKey: [...keys.rules, id], queryFn: () => value(api.GET('/api/v1/rules/{id}', one(id))) }),
  ruleRemains: (id: string) =>
    queryOptions({
      queryKey: ['remains', id],
      queryFn: () => value(api.GET('/api/v1/rules/{id}/remains', one(id))),
    }),
  revisions: (id: string, latest: number) =>
    queryOptions({
      queryKey: ['revisions', id, latest],
      queryFn: () => value(api.GET('/api/v1/rules/{id}/revisions', one(id))),
    }),
  draft: (message: number) =>
    queryOptions({
      queryKey: ['draft', message],
      queryFn: () => value(api.GET('/api/v1/rules/from-message/{number}', { params: { path: { number: message } } })),
    }),
  language: queryOptions({
    queryKey: ['language'],
    queryFn: () => value(api.GET('/api/v1/rules/language')),
    staleTime: Infinity,
  }),
  choices: (mailbox: string[]) =>
    queryOptions({
      queryKey: ['choices', mailbox],
      queryFn: () => value(api.GET('/api/v1/rules/choices', { params: { query: { mailbox } } })),
    }),
  compare: (document: string, renames?: Record<string, string>) =>
    queryOptions({
      queryKey: ['compare', document, renames],
      queryFn: () => value(api.POST('/api/v1/rules/compare', { body: { document, renames } })),
      retry: false,
      gcTime: 0,
      placeholderData: keepPreviousData,
    }),

  topics: queryOptions({ queryKey: keys.topics, queryFn: () => value(api.GET('/api/v1/topics')) }),
  teachings: (id: string) =>
    queryOptions({
      queryKey: [...keys.topics, id, 'teachings'],
      queryFn: () => value(api.GET('/api/v1/topics/{id}/teachings', { params: { path: { id }, query: { most: 8 } } })),
      placeholderData: keepPreviousData,
    }),
  /** What a topic would take of the last messages; marks that were made since are part of the key. */
  topicPast: (id: string, last: number, about: number, others: number) =>
    queryOptions({
      queryKey: [...keys.topics, id, 'past', last, about, others],
      queryFn: () => value(api.GET('/api/v1/topics/{id}/past', { params: { path: { id }, query: { last } } })),
      placeholderData: keepPreviousData,
    }),
  examples: (id: string) =>
    queryOptions({
      queryKey: [...keys.topics, id, 'examples'],
      queryFn: () => value(api.GET('/api/v1/topics/{id}/examples', one(id))),
    }),

  message: (number: number, thorough: boolean) =>
    queryOptions({
      queryKey: [...keys.message, number, thorough],
      queryFn: () => value(api.GET('/api/v1/messages/{number}', { params: { path: { number }, query: { thorough } } })),
      placeholderData: keepPreviousData,
    }),
  messageTopics: (number: number) =>
    queryOptions({
      queryKey: [...keys.messageTopics, number],
      queryFn: () => value(api.GET('/api/v1/messages/{number}/topics', { params: { path: { number } } })),
    }),
  messageProof: (number: number) =>
    queryOptions({
      queryKey: ['message proof', number],
      queryFn: () => value(api.GET('/api/v1/messages/{number}/proof', { params: { path: { number } } })),
    }),

  passes: queryOptions({
    queryKey: keys.passes,
    queryFn: () => value(api.GET('/api/v1/passes', { params: { query: { most: 100 } } })),
  }),
  pass: (number: number) =>
    queryOptions({
      queryKey: [...keys.passes, 'one', number],
      queryFn: () => value(api.GET('/api/v1/passes/{number}', { params: { path: { number } } })),
    }),
  unread: (pass: number) =>
    queryOptions({
      queryKey: [...keys.passes, 'unread', pass],
      queryFn: () => value(api.GET('/api/v1/passes/{number}/unread', { params: { path: { number: pass } } })),
    }),
  verification: queryOptions({
    queryKey: [...keys.passes, 'verification'],
    queryFn: () => value(api.GET('/api/v1/register/verification')),
  }),

  story: (entry: string) =>
    queryOptions({
      queryKey: [...keys.register, 'story', entry],
      queryFn: () => value(api.GET('/api/v1/register/{entry}', { params: { path: { entry } } })),
    }),
  places: (entry: string) =>
    queryOptions({
      queryKey: [...keys.register, 'places', entry],
      queryFn: () => value(api.GET('/api/v1/register/{entry}/places', { params: { path: { entry } } })),
      staleTime: 60_000,
      retry: false,
    }),
  /** What is read in a file; its codes take up to a second a page. */
  inside: (entry: string, codes: boolean) =>
    queryOptions({
      queryKey: [...keys.register, 'inside', entry, codes],
      queryFn: () =>
        value(api.GET('/api/v1/register/{entry}/inside', { params: { path: { entry }, query: { codes } } })),
      staleTime: 60_000,
      retry: false,
    }),
  /** Patterns for a value that a person selected in a filing. */
  valueProposals: (entry: string, of: Selected) =>
    queryOptions({
      queryKey: ['proposals', entry, of],
      queryFn: () => value(api.GET('/api/v1/register/{entry}/proposals', { params: { path: { entry }, query: of } })),
      staleTime: 60_000,
      retry: false,
    }),
  /** The last files that a rule filed; of all rules without one. */
  lastFiled: (rule?: string) =>
    queryOptions({
      queryKey: [...keys.register, 'last', rule],
      queryFn: () => value(api.GET('/api/v1/register', { params: { query: { rule, text: 'state:filed', most: 30 } } })),
    }),
  words: queryOptions({
    queryKey: ['words'],
    queryFn: () => value(api.GET('/api/v1/register/words')),
  }),
  registerHead: (asked: Asked) =>
    queryOptions({
      queryKey: [...keys.register, 'head', asked],
      queryFn: () => value(api.GET('/api/v1/register', { params: { query: { ...office, ...asked, most: 1 } } })),
      placeholderData: keepPreviousData,
      retry: false,
    }),
  registerFolders: (asked: Asked, cabinet: string, folder: string) =>
    queryOptions({
      queryKey: [...keys.register, 'folders', asked, cabinet, folder],
      queryFn: () =>
        value(
          api.GET('/api/v1/register/folders', {
            params: { query: { ...office, ...asked, cabinet: cabinet || undefined, folder: folder || undefined } },
          }),
        ),
      placeholderData: keepPreviousData,
      retry: false,
    }),
  activity: (asked: Asked, by: By, most?: number) =>
    queryOptions({
      queryKey: [...keys.register, 'activity', by, asked],
      queryFn: () =>
        value(api.GET('/api/v1/register/activity', { params: { query: { ...office, ...asked, by, most } } })),
      placeholderData: keepPreviousData,
      retry: false,
    }),
  registerLanguage: queryOptions({
    queryKey: keys.registerLanguage,
    queryFn: () => value(api.GET('/api/v1/register/language')),
    staleTime: 60_000,
  }),
  registerFiles: queryOptions({
    queryKey: keys.registerFiles,
    queryFn: () => value(api.GET('/api/v1/register-files')),
  }),
  export: (id: string) =>
    queryOptions({
      queryKey: ['export', id],
      queryFn: () => value(api.GET('/api/v1/register/exports/{id}', one(id))),
      enabled: id !== '',
      gcTime: 0,
    }),

  correspondents: queryOptions({
    queryKey: ['correspondents'],
    queryFn: () => value(api.GET('/api/v1/correspondents')),
  }),
  proposals: queryOptions({
    queryKey: ['proposals'],
    queryFn: () => value(api.GET('/api/v1/correspondents/proposals')),
  }),
  tables: queryOptions({ queryKey: ['tables'], queryFn: () => value(api.GET('/api/v1/tables')) }),
  trust: queryOptions({ queryKey: ['trust'], queryFn: () => value(api.GET('/api/v1/trust')) }),
  scans: queryOptions({ queryKey: ['scans'], queryFn: () => value(api.GET('/api/v1/scans')) }),
  replica: queryOptions({ queryKey: keys.replica, queryFn: () => value(api.GET('/api/v1/replica')) }),
  backup: queryOptions({ queryKey: keys.backup, queryFn: () => value(api.GET('/api/v1/backup')) }),
  restored: queryOptions({
    queryKey: [...keys.backup, 'restored'],
    queryFn: () => value(api.GET('/api/v1/restored')),
  }),
  limits: queryOptions({ queryKey: keys.limits, queryFn: () => value(api.GET('/api/v1/limits')) }),
  outgoing: queryOptions({ queryKey: keys.outgoing, queryFn: () => value(api.GET('/api/v1/outgoing')) }),
  addressees: queryOptions({ queryKey: keys.addressees, queryFn: () => value(api.GET('/api/v1/addressees')) }),
  alarms: queryOptions({ queryKey: keys.alarms, queryFn: () => value(api.GET('/api/v1/alarms')) }),
}
