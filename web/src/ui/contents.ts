import { t } from '@lingui/core/macro'

/** The pages of the book, in groups. Each is a file of docs. */
export const contents: [group: string, pages: string[]][] = [
  [t`Begin`, ['start', 'tasks', 'worked-rules', 'troubleshooting', 'glossary']],
  [
    t`Use`,
    ['rules', 'patterns', 'values', 'reference', 'afterwards', 'topics', 'trust', 'register', 'people', 'languages'],
  ],
  [t`Mailboxes`, ['mailboxes', 'jmap', 'drop-addresses', 'mail-servers']],
  [t`Cabinets`, ['cabinets']],
  [
    t`Run`,
    ['running', 'options', 'commands', 'watching', 'tls', 'backup', 'security', 'scaling', 'office', 'standby', 'api'],
  ],
  [t`How it works`, ['architecture', 'filing', 'states', 'reader', 'reliability', 'measured', 'measured-words']],
]

/** What a heading is called in an address, as in the documents' own links. */
export const anchor = (heading: string) =>
  heading
    .toLowerCase()
    .replace(/[^\p{L}\p{N}\s-]/gu, '')
    .trim()
    .replace(/\s+/g, '-')

/**
 * Where a link of the documents leads in the console: another page of the book, or something that the service has. ""
 * where there is nothing.
 */
export function leadsTo(link: string): string {
  if (/^(https?:|#)/.test(link)) return link
  const page = /^([a-z0-9-]+)\.md(#.*)?$/.exec(link)
  if (page) return `/book/${page[1]}${page[2] ?? ''}`
  return link.endsWith('openapi.yaml') ? '/api/v1/openapi.yaml' : ''
}
